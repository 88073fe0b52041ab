import { useQuery } from '@tanstack/react-query';
import { Skeleton } from 'antd';
import { Link, useParams } from 'react-router';
import type { Alarm } from '../../api/client';
import { queries } from '../../api/queries';
import { count, listed } from '../../format';
import { Contracts } from '../../components/impact';
import { MessageDetail } from '../../components/message';
import { AlarmStanding } from '../../components/handling';
import { SeverityMark } from '../../components/severity';
import { Span, Time } from '../../components/time';
import { ErrorAlert } from '../../components/error-alert';
import { WatchEntry } from '../../components/watches';
import { stateWords } from '../incidents/incident-entry';
import { Closing } from './closing';
import { EvidencePanel } from './evidence-panel';
import { Diagnoses } from './diagnoses';
import { Notify } from './notify';
import { Timeline } from './timeline';

/** What do we know, and who does what? */
export function IncidentPage() {
  const { id = '' } = useParams();
  const { data: incident, error } = useQuery(queries.incident(id));
  if (error && !incident) return <ErrorAlert error={error} />;
  if (!incident) return <Skeleton active paragraph={{ rows: 10 }} />;
  return (
    <>
      {error && <ErrorAlert error={error} />}
      <p className="said quiet">
        Incident {incident.no}, {stateWords(incident.state)},{' '}
        <Span since={incident.since} until={incident.closed_at ?? null} />
      </p>
      <h1 className="sentence" data-code={incident.message.code}>
        {incident.message.headline}
      </h1>
      <MessageDetail message={incident.message} />
      {incident.sites.length > 0 && (
        <p className="said">
          Sites: {listed(incident.sites)}. Services: {listed(incident.services)}.
        </p>
      )}
      <Contracts holders={incident.contract_holders} />
      {incident.complaint && (
        <p className="said">
          {incident.complaint.user} entered a complaint from {incident.complaint.site} about{' '}
          {incident.complaint.service}, since about <Time at={incident.complaint.about} />
          {incident.complaint.words ? ': ' : '.'}
          {incident.complaint.words && <q className="words">{incident.complaint.words}</q>}
        </p>
      )}
      <Closing incident={incident} />
      <Notify incident={incident} />
      {incident.evidence && <EvidencePanel evidence={incident.evidence} />}
      <Diagnoses incident={incident} />
      {incident.watches.length > 0 && (
        <section aria-labelledby="its-watches">
          <h2 className="section" id="its-watches">
            Watches
          </h2>
          <ul className="plain-list">
            {incident.watches.map((watch) => (
              <WatchEntry key={watch.id} watch={watch} />
            ))}
          </ul>
        </section>
      )}
      <div className="two-columns">
        <Timeline incident={incident} />
        {incident.alarm_items.length > 0 && <Alarms alarms={incident.alarm_items} />}
      </div>
    </>
  );
}

function Alarms({ alarms }: { alarms: Alarm[] }) {
  return (
    <section aria-labelledby="its-alarms">
      <h2 className="section" id="its-alarms">
        {count(alarms.length, 'alarm')} of one cause
      </h2>
      <ul className="plain-list">
        {alarms.map((alarm) => (
          <li className="row" key={alarm.id}>
            <SeverityMark severity={alarm.perceived_severity} />
            <Link to={`/alarms?show=all&alarm=${alarm.no}`} className="row-head">
              {alarm.message.headline}
            </Link>
            <span className="quiet row-when">
              <Span since={alarm.since} until={alarm.cleared_at ?? null} />
            </span>
            <span className="quiet row-rest">
              {alarm.paths[0] !== undefined && (
                <>
                  <Link to={`/paths/${alarm.paths[0]}`}>a path that shows it</Link>
                  {'; '}
                </>
              )}
              <AlarmStanding alarm={alarm} />
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}
