import { useQuery } from '@tanstack/react-query';
import { Button, Skeleton, Space } from 'antd';
import { useState } from 'react';
import { Link } from 'react-router';
import type { Incident, Severity } from '../../api/client';
import { queries } from '../../api/queries';
import { count, ofAll } from '../../format';
import { Time } from '../../components/time';
import { ErrorAlert } from '../../components/error-alert';
import { ComplaintForm } from '../incidents/complaint-form';
import { IncidentEntry } from '../incidents/incident-entry';
import { Board } from './board';
import { Suppressions } from './suppressions';

/** Open incidents shown; the others are one link away. */
const SHOWN = 5;

const ORDER: Record<Severity, number> = { critical: 0, major: 1, minor: 2 };

/** Open ones before cleared ones, most severe first; of equal ones the oldest. */
function byUrgency(incidents: Incident[]): Incident[] {
  const rank = ({ perceived_severity: severity, state }: Incident) =>
    (state === 'open' ? 0 : 10) + (severity == null ? 3 : ORDER[severity]);
  return incidents.toSorted((a, b) => rank(a) - rank(b) || a.no - b.no);
}

/** What is wrong, and who must act? */
export function NowPage() {
  const status = useQuery(queries.status());
  const paths = useQuery(queries.paths());
  const incidents = useQuery(queries.incidents('open'));
  const [complaining, setComplaining] = useState(false);
  const open = byUrgency(incidents.data ?? []);
  const suspected = status.data?.surest_suspected;
  return (
    <>
      {status.error && <ErrorAlert error={status.error} />}
      {status.data ? (
        <>
          <h1 className="sentence one-line" data-state={status.data.state}>
            {status.data.sentence}
          </h1>
          <Space separator="·" wrap className="quiet">
            <span>{count(status.data.agents, 'agent')}</span>
            <span>{count(status.data.paths, 'path')}</span>
            <span>{count(status.data.rounds, 'round')} recorded</span>
            <span>
              {status.data.owner_map
                ? `owners from ${status.data.owner_map.source}, ${count(status.data.owner_map.entries, 'prefix', 'prefixes')}`
                : 'no owner map imported: itinera owners import FILE'}
            </span>
            {status.data.rebuilding && (
              <span>
                a new version judges the {status.data.rebuilding.stage} again:{' '}
                {ofAll(status.data.rebuilding.done, status.data.rebuilding.paths)} paths
              </span>
            )}
            {status.data.late_deliveries > 0 && (
              <Link to="/notices">
                {count(status.data.late_deliveries, 'notice')} late or not delivered
              </Link>
            )}
            <span>
              as of <Time at={status.data.at} />
            </span>
          </Space>
        </>
      ) : (
        // As high as the state, so that nothing moves when it arrives.
        !status.error && (
          <>
            <h1 className="sentence one-line quiet">Loading the status…</h1>
            <Space className="quiet">
              <span>&nbsp;</span>
            </Space>
          </>
        )
      )}
      <section aria-labelledby="open-incidents">
        <div style={{ display: 'flex', alignItems: 'baseline', gap: 16 }}>
          <h2 className="section" id="open-incidents" style={{ flex: 1 }}>
            Incidents to work on
          </h2>
          <Button onClick={() => setComplaining(true)}>Report a problem</Button>
        </div>
        <div className="reserved">
          {incidents.error && !status.error && <ErrorAlert error={incidents.error} />}
          {incidents.data && open.length === 0 && (
            <p className="quiet">
              None. An alarm or a reported problem opens one.{' '}
              {suspected && (
                <Link to={`/paths/${suspected.path}`}>
                  See the surest suspected fault: {suspected.site} to {suspected.target}
                </Link>
              )}
            </p>
          )}
          <ul className="plain-list">
            {open.slice(0, SHOWN).map((incident) => (
              <IncidentEntry key={incident.id} incident={incident} />
            ))}
            {open.length > SHOWN && (
              <li className="row">
                <Link to="/incidents" className="row-rest">
                  {count(open.length - SHOWN, 'more incident')}
                </Link>
              </li>
            )}
          </ul>
        </div>
      </section>
      <h2 className="section">Sites by services</h2>
      {paths.error && !status.error && <ErrorAlert error={paths.error} />}
      {paths.data ? <Board paths={paths.data} /> : !paths.error && <Skeleton active />}
      <Suppressions />
      <ComplaintForm open={complaining} onClose={() => setComplaining(false)} />
    </>
  );
}
