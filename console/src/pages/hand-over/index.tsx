import { useQuery } from '@tanstack/react-query';
import { Button, Skeleton } from 'antd';
import { useState } from 'react';
import { Link } from 'react-router';
import type { IncidentHandOver } from '../../api/client';
import { queries } from '../../api/queries';
import { ErrorAlert } from '../../components/error-alert';
import { Time } from '../../components/time';
import { count } from '../../format';
import { useTimeScope } from '../../time/scope';
import { explainedWords, plannedWords } from '../fleet/planned-words';
import { IncidentEntry } from '../incidents/incident-entry';
import { Entry } from '../incident/timeline';

const GROUPS: [IncidentHandOver['state'], string][] = [
  ['open', 'Open'],
  ['cleared', 'Cleared, not closed yet'],
  ['closed', 'Closed since'],
];

/** What does the next shift need to know? */
export function HandOverPage() {
  const { range } = useTimeScope();
  const answer = useQuery(queries.handOver(range));
  const [copied, setCopied] = useState(false);
  const data = answer.data;
  const open = data?.incidents.filter((incident) => incident.state === 'open') ?? [];
  const free = open.filter(
    (incident) => incident.handled_by.length === 0 && !incident.is_set_aside,
  ).length;
  return (
    <>
      <div className="actions">
        <h1 className="sentence" style={{ flex: 1, margin: 0 }}>
          {data === undefined
            ? 'Hand-over'
            : `Hand-over: ${count(open.length, 'incident')} open, ${free} not acknowledged`}
        </h1>
        <Button
          disabled={data === undefined}
          onClick={() => {
            void navigator.clipboard.writeText(data?.text ?? '').then(() => setCopied(true));
          }}
        >
          Copy as text
        </Button>
        <span role="status" className="quiet">
          {copied && 'Copied'}
        </span>
      </div>
      {answer.error && <ErrorAlert error={answer.error} />}
      {!data && !answer.error && <Skeleton active />}
      {data && (
        <>
          <p className="said quiet">
            Changes since <Time at={data.since} />; the range in the header sets this time.
          </p>
          {GROUPS.map(([state, title]) => (
            <Group
              key={state}
              title={title}
              incidents={data.incidents.filter((incident) => incident.state === state)}
            />
          ))}
          <h2 className="section">To watch</h2>
          <ul className="plain-list">
            {data.shelved.map((alarm) => (
              <li key={alarm.id}>
                <Link to={`/alarms?show=shelved&alarm=${alarm.no}`}>Alarm {alarm.no}</Link>, shelved
                until <Time at={alarm.handling.shelved_until ?? data.at} /> (
                {alarm.handling.shelve_reason}): {alarm.message.headline}
              </li>
            ))}
            {data.watches.map((watch) => (
              <li key={watch.id}>
                <Link to={`/paths/${watch.path}`}>
                  Watch {watch.no}: {watch.site} to {watch.target}
                </Link>{' '}
                until <Time at={watch.ends_at} />
                {watch.reason !== '' && `: ${watch.reason}`}
              </li>
            ))}
            {data.suppressions.map((pause) => (
              <li key={pause.id}>
                Pause {pause.no}: {pause.site ?? 'all sites'} to {pause.target ?? 'all targets'}{' '}
                from <Time at={pause.from} /> until <Time at={pause.until} />: {pause.reason}
              </li>
            ))}
            {data.planned.map((work) => (
              <li key={`${work.calendar} ${work.starts_at} ${work.summary}`}>
                <Link to="/fleet">Planned work</Link> from <Time at={work.starts_at} /> until{' '}
                <Time at={work.ends_at} />: {plannedWords(work)}
                {work.explained.length > 0 && `; explains ${explainedWords(work)}`}
              </li>
            ))}
            {data.shelved.length +
              data.watches.length +
              data.suppressions.length +
              data.planned.length ===
              0 && (
              <li className="quiet">No shelved alarm, no watch, no pause, no planned work.</li>
            )}
          </ul>
        </>
      )}
    </>
  );
}

function Group({ title, incidents }: { title: string; incidents: IncidentHandOver[] }) {
  return (
    <section aria-label={title}>
      <h2 className="section">
        {title}: {incidents.length === 0 ? 'none' : incidents.length}
      </h2>
      <ul className="plain-list">
        {incidents.map((incident) => (
          <Incident key={incident.id} incident={incident} />
        ))}
      </ul>
    </section>
  );
}

function Incident({ incident }: { incident: IncidentHandOver }) {
  const { raised, cleared, entries } = incident;
  const moved = raised + cleared > 0;
  const changes = [
    incident.is_new && 'new',
    moved && `alarms raised: ${raised}, cleared: ${cleared}`,
    !moved && entries.length === 0 && 'no change',
  ].filter((words) => words !== false);
  return (
    <>
      <IncidentEntry incident={incident} />
      <li className="row">
        <span className="quiet row-rest">{changes.join('; ')}</span>
        {entries.length > 0 && (
          <ul className="plain-list row-rest">
            {entries.map((entry) => (
              <Entry key={entry.id} event={entry} />
            ))}
          </ul>
        )}
      </li>
    </>
  );
}
