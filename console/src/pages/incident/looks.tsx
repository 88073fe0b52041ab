import { Link } from 'react-router';
import type { IncidentDetail } from '../../api/client';
import { LookButton } from '../../look-button';
import { Time } from '../../time';

/** Looks outward that belong to an incident, and a way to have another taken with one click. */
export function Looks({ incident }: { incident: IncidentDetail }) {
  const site = incident.complaint?.site ?? incident.sites[0];
  const service = incident.complaint?.service ?? incident.services[0];
  const canLook = incident.state !== 'closed' && site !== undefined && service !== undefined;
  if (!canLook && incident.outward.length === 0) return null;
  return (
    <section aria-labelledby="its-looks">
      <div style={{ display: 'flex', gap: 16, alignItems: 'baseline' }}>
        <h2 className="section" id="its-looks" style={{ flex: 1 }}>
          Is it the network at all?
        </h2>
        {canLook && (
          <LookButton
            wanted={{ site, service, incident: incident.id }}
            label={`Look outward from ${site}`}
          />
        )}
      </div>
      {incident.outward.length === 0 && (
        <p className="said quiet">
          Nobody has looked yet from the machine at {site} to {service}; it takes half a minute.
        </p>
      )}
      <ul className="plain-list">
        {incident.outward.map((look) => (
          <li className="entry" key={look.id}>
            <p className="said">
              <Link to={`/outward/${look.id}`}>{look.sentence ?? look.progress}</Link>
            </p>
            <p className="said quiet">
              from {look.site} to {look.target}, asked for by {look.person}{' '}
              <Time at={look.asked_at} />
            </p>
          </li>
        ))}
      </ul>
    </section>
  );
}
