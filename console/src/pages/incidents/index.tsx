import { useQuery } from '@tanstack/react-query';
import { Button, Segmented, Skeleton } from 'antd';
import { useState } from 'react';
import { useSearchParams } from 'react-router';
import { queries } from '../../api/queries';
import { ErrorAlert } from '../../components/error-alert';
import { ComplaintForm } from './complaint-form';
import { IncidentEntry } from './incident-entry';

/** All incidents, newest first. */
export function IncidentsPage() {
  const [search, setSearch] = useSearchParams();
  const show = search.get('show') === 'all' ? 'all' : 'open';
  const incidents = useQuery(queries.incidents(show === 'open'));
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
            { value: 'open', label: 'Open' },
            { value: 'all', label: 'All' },
          ]}
          onChange={(next) => setSearch(next === 'all' ? { show: 'all' } : {})}
        />
        <Button onClick={() => setComplaining(true)}>Report a problem</Button>
      </div>
      {incidents.error && <ErrorAlert error={incidents.error} />}
      {!incidents.data && !incidents.error && <Skeleton active />}
      {incidents.data?.length === 0 && (
        <p className="quiet">
          {show === 'open' ? 'No incident is open.' : 'There has been no incident.'}
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
