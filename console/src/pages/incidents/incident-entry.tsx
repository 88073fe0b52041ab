import { Link } from 'react-router';
import type { Incident } from '../../api/client';
import { SeverityMark } from '../../components/severity';
import { Span } from '../../components/time';
import { count, listed } from '../../format';

const STATES: Record<Incident['state'], string> = {
  open: 'open',
  cleared: 'cleared, not closed yet',
  closed: 'closed',
};

export function stateWords(state: Incident['state']): string {
  return STATES[state];
}

/** Who has an incident, or that its open alarms are shelved. */
function handlingWords(incident: Incident): string {
  if (incident.is_set_aside) return 'shelved';
  if (incident.handled_by.length === 0) return 'not acknowledged';
  return `with ${listed(incident.handled_by)}`;
}

/** An incident in two lines: severity, headline and time; then impact and state. */
export function IncidentEntry({ incident }: { incident: Incident }) {
  return (
    <li className="row" data-incident={incident.id} data-code={incident.message.code}>
      {incident.origin === 'complaint' && incident.perceived_severity == null ? (
        <span className="severity">☎ complaint</span>
      ) : (
        <SeverityMark severity={incident.perceived_severity} />
      )}
      <Link to={`/incidents/${incident.no}`} className="row-head">
        <strong>
          {incident.no}. {incident.message.headline}
        </strong>
      </Link>
      <span className="quiet row-when">
        <Span since={incident.since} until={incident.closed_at ?? null} />
      </span>
      <span className="quiet row-rest">
        {stateWords(incident.state)}
        {incident.sites.length > 0 && `; at ${listed(incident.sites)}`}
        {incident.services.length > 0 && `; ${listed(incident.services)}`}
        {incident.alarms > 0 &&
          `; ${incident.open_alarms} of ${count(incident.alarms, 'alarm')} open`}
        {incident.state === 'open' && `; ${handlingWords(incident)}`}
      </span>
    </li>
  );
}
