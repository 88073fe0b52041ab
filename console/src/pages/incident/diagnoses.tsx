import { Link } from 'react-router';
import type { IncidentDetail } from '../../api/client';
import { DiagnoseButton } from '../../components/diagnose-button';
import { Time } from '../../components/time';

/** Diagnoses of an incident, and buttons that start another. */
export function Diagnoses({ incident }: { incident: IncidentDetail }) {
  const site = incident.complaint?.site ?? incident.sites[0];
  const service = incident.complaint?.service ?? incident.services[0];
  const canDiagnose = incident.state !== 'closed' && site !== undefined && service !== undefined;
  if (!canDiagnose && incident.diagnoses.length === 0) return null;
  return (
    <section aria-labelledby="its-diagnoses">
      <div style={{ display: 'flex', gap: 16, alignItems: 'baseline' }}>
        <h2 className="section" id="its-diagnoses" style={{ flex: 1 }}>
          Is it the network at all?
        </h2>
        {canDiagnose && (
          <DiagnoseButton
            wanted={{ site, service, incident: incident.id }}
            label={`Run diagnosis from ${site}`}
          />
        )}
      </div>
      {incident.diagnoses.length === 0 && (
        <p className="said quiet">
          No diagnosis has been run from {site} to {service} yet. It takes half a minute.
        </p>
      )}
      <ul className="plain-list">
        {incident.diagnoses.map((diagnosis) => (
          <li className="entry" key={diagnosis.id}>
            <p className="said">
              <Link to={`/diagnoses/${diagnosis.no}`}>
                {diagnosis.conclusion?.headline ?? diagnosis.progress}
              </Link>
            </p>
            <p className="said quiet">
              from {diagnosis.site} to {diagnosis.target}, started by {diagnosis.user}{' '}
              <Time at={diagnosis.asked_at} />
            </p>
          </li>
        ))}
      </ul>
    </section>
  );
}
