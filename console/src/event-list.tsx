import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { queries } from './api/queries';
import { Time } from './time';
import { ErrorAlert } from './error-alert';

/** Events shown; the rest is in the client's list. */
const SHOWN = 25;

/** Events, newest first: of all agents or of one. */
export function EventList({ spanS, agent }: { spanS: number; agent?: string }) {
  const { data: events, error } = useQuery(queries.events(spanS, agent));
  if (error && !events) return <ErrorAlert error={error} />;
  if (events?.length === 0) return <p className="quiet">Nothing.</p>;
  return (
    <ul className="plain-list">
      {events?.slice(0, SHOWN).map((event) => (
        <li className="entry" key={event.id} data-kind={event.kind}>
          <p className="said">
            {event.check == null ? (
              event.sentence
            ) : (
              <Link to={`/checks/${event.check}`}>{event.sentence}</Link>
            )}
          </p>
          <p className="said quiet">
            {event.perceived_severity ?? 'to know'}, since <Time at={event.since} />
            {event.ended_at == null ? (
              ', lasts'
            ) : event.ended_at === event.raised_at ? (
              ''
            ) : (
              <>
                {' '}
                until <Time at={event.ended_at} />
              </>
            )}
            {event.incident != null && (
              <>
                {'; '}
                <Link to={`/incidents/${event.incident}`}>its incident</Link>
              </>
            )}
          </p>
        </li>
      ))}
      {(events?.length ?? 0) > SHOWN && (
        <li className="quiet">and more: itinera events lists them</li>
      )}
    </ul>
  );
}
