import { Link } from 'react-router';
import type { Incident } from '../../api/client';
import { count } from '../../format';
import { Call } from '../../call';
import { Time } from '../../time';

const STATES = { open: 'open', over: 'over, not closed yet', closed: 'closed' } as const;

export function stateWords(state: string): string {
  return STATES[state as keyof typeof STATES] ?? state;
}

/** "Eskerry, Dunverra" up to three, then how many more. */
export function listed(names: string[]): string {
  const shown = names.slice(0, 3).join(', ');
  return names.length > 3 ? `${shown} and ${names.length - 3} more` : shown;
}

/** An incident with its start, its impact and its owners. */
export function IncidentEntry({ incident }: { incident: Incident }) {
  return (
    <li className="entry" data-incident={incident.id}>
      <p className="said">
        <Link to={`/incidents/${incident.id}`}>
          <strong>
            {incident.no}. {incident.sentence}
          </strong>
        </Link>
      </p>
      <p className="said quiet">
        {stateWords(incident.state)}, since <Time at={incident.since} />
        {incident.sites.length > 0 && `; seen from ${listed(incident.sites)}`}
        {incident.services.length > 0 && `; touches ${listed(incident.services)}`}
        {incident.alarms > 0 &&
          `; ${incident.open_alarms} of ${count(incident.alarms, 'alarm')} open`}
      </p>
      <Call owners={incident.owners} />
    </li>
  );
}
