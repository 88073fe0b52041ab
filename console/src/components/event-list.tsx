import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { queries } from '../api/queries';
import { useTimeScope } from '../time/scope';
import { SeverityMark } from './severity';
import { Span, Time } from './time';
import { ErrorAlert } from './error-alert';

/** Events shown; the rest is in the client's list. */
const SHOWN = 25;

/** Events in the range of the page, newest first: of all agents or of one. */
export function EventList({ agent }: { agent?: string }) {
  const { range } = useTimeScope();
  const { data: events, error } = useQuery(queries.events(range, agent));
  if (error && !events) return <ErrorAlert error={error} />;
  if (events?.length === 0) return <p className="quiet">No events in this range.</p>;
  return (
    <ul className="plain-list">
      {events?.slice(0, SHOWN).map((event) => (
        <li className="row" key={event.id} data-kind={event.kind}>
          <SeverityMark severity={event.perceived_severity} />
          <span className="row-head">
            {event.check == null ? (
              event.message.headline
            ) : (
              <Link to={`/checks/${event.check}`}>{event.message.headline}</Link>
            )}
          </span>
          <span className="quiet row-when">
            {event.ended_at === event.raised_at ? (
              <Time at={event.since} />
            ) : (
              <Span since={event.since} until={event.ended_at ?? null} />
            )}
          </span>
          <span className="quiet row-rest">
            {event.ended_at == null ? 'open' : 'over'}; {event.site}
            {event.incident_no != null && (
              <>
                {'; '}
                <Link to={`/incidents/${event.incident_no}`}>incident {event.incident_no}</Link>
              </>
            )}
          </span>
        </li>
      ))}
      {(events?.length ?? 0) > SHOWN && (
        <li className="quiet">and more: itinera events lists them</li>
      )}
    </ul>
  );
}
