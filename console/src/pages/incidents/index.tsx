import { useQuery } from '@tanstack/react-query';
import { Button, Segmented, Skeleton } from 'antd';
import { useState } from 'react';
import { useSearchParams } from 'react-router';
import { queries } from '../../api/queries';
import { useTimeScope } from '../../time/scope';
import { ErrorAlert } from '../../components/error-alert';
import { ComplaintForm } from './complaint-form';
import { IncidentEntry } from './incident-entry';

/** Incidents that are open, or all of a range, newest first. */
export function IncidentsPage() {
  const [search, setSearch] = useSearchParams();
  const show = search.get('show') === 'all' ? 'all' : 'open';
  const { range } = useTimeScope();
  const incidents = useQuery(queries.incidents(show === 'open' ? 'open' : range));
  const [complaining, setComplaining] = useState(false);
  return (
    <>
      <div style={{ display: 'flex', gap: 16, alignItems: 'center' }}>
        <h1 className="sentence" style={{ flex: 1 }}>
          Incidents
        </h1>
        <Segmented
          aria-label="Which incidents"
          value={show}
          options={[
            { value: 'open', label: 'Open now' },
            { value: 'all', label: 'In the range' },
          ]}
          onChange={(next) =>
            setSearch((before) => {
              before.set('show', next);
              return before;
            })
          }
        />
        <Button onClick={() => setComplaining(true)}>Report a problem</Button>
      </div>
      {incidents.error && <ErrorAlert error={incidents.error} />}
      {!incidents.data && !incidents.error && <Skeleton active />}
      {incidents.data?.length === 0 && (
        <p className="quiet">
          {show === 'open' ? 'No incident is open.' : 'No incidents in this range.'}
        </p>
      )}
      <ul className="plain-list">
        {incidents.data?.map((incident) => (
          <IncidentEntry key={incident.id} incident={incident} />
        ))}
      </ul>
      <ComplaintForm open={complaining} onClose={() => setComplaining(false)} />
    </>
  );
}
