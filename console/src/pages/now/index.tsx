import { useQuery } from '@tanstack/react-query';
import { Button, Skeleton, Space } from 'antd';
import { useState } from 'react';
import { queries } from '../../api/queries';
import { count } from '../../format';
import { Time } from '../../time';
import { ErrorAlert } from '../../error-alert';
import { ComplaintForm } from '../incidents/complaint-form';
import { IncidentEntry } from '../incidents/incident-entry';
import { Board } from './board';
import { Suppressions } from './suppressions';

/** What is wrong, and who must act? */
export function NowPage() {
  const status = useQuery(queries.status());
  const paths = useQuery(queries.paths());
  const incidents = useQuery(queries.incidents(true));
  const [complaining, setComplaining] = useState(false);
  // Oldest first: what comes is added below what is being read.
  const open = incidents.data?.toReversed() ?? [];
  return (
    <>
      {status.error && <ErrorAlert error={status.error} />}
      {status.data ? (
        <>
          <h1 className="sentence two-lines">{status.data.sentence}</h1>
          <Space separator="·" wrap className="quiet">
            <span>{count(status.data.agents, 'agent')}</span>
            <span>{count(status.data.paths, 'path')}</span>
            <span>{count(status.data.rounds, 'round')} recorded</span>
            <span>
              {status.data.owner_map
                ? `owners from ${status.data.owner_map.source}, ${count(status.data.owner_map.entries, 'prefix', 'prefixes')}`
                : 'no owner map imported: itinera owners import FILE'}
            </span>
            <span>
              as of <Time at={status.data.at} />
            </span>
          </Space>
        </>
      ) : (
        !status.error && <Skeleton active paragraph={{ rows: 1 }} />
      )}
      <section aria-labelledby="open-incidents">
        <div style={{ display: 'flex', alignItems: 'baseline', gap: 16 }}>
          <h2 className="section" id="open-incidents" style={{ flex: 1 }}>
            Open incidents
          </h2>
          <Button onClick={() => setComplaining(true)}>Report a problem</Button>
        </div>
        <div className="reserved">
          {incidents.error && !status.error && <ErrorAlert error={incidents.error} />}
          {incidents.data && open.length === 0 && (
            <p className="quiet">
              None. Alarms open one by themselves; a complaint opens one though nothing alarmed.
            </p>
          )}
          <ul className="plain-list">
            {open.map((incident) => (
              <IncidentEntry key={incident.id} incident={incident} />
            ))}
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
