import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import type { Alarm, PathItem } from '../../api/client';
import { queries } from '../../api/queries';
import { count, ms, perCent } from '../../format';
import { Call } from '../../call';
import { Time } from '../../time';

/** Paths named here; the rest is counted. */
const NAMED = 8;

export function pathName(path: PathItem): string {
  const version = path.family === 'ipv6' ? 'IPv6' : 'IPv4';
  return `${path.site} to ${path.target} (${version}, ${path.method})`;
}

function worst(alarm: Alarm): string {
  return alarm.worst_loss_ratio == null
    ? `${ms(alarm.worst_added_delay_us)} added`
    : `${perCent(alarm.worst_loss_ratio)} lost`;
}

/** What the selected alarm rests on, and where to go from here. */
export function Preview({ alarm }: { alarm: Alarm }) {
  const paths = useQuery(queries.paths());
  const known = paths.data?.filter((path) => alarm.paths.includes(path.id)) ?? [];
  const showing = new Set(alarm.showing);
  return (
    <section aria-label="The selected alarm">
      <p className="said">
        <strong>{alarm.sentence}</strong>
      </p>
      <p className="said">
        {alarm.perceived_severity}; worst {worst(alarm)}; raised <Time at={alarm.raised_at} />, a
        fixed limit held over since <Time at={alarm.since} />.
      </p>
      <Call owners={alarm.place.owners} />
      {alarm.incident != null && (
        <p className="said">
          <Link to={`/incidents/${alarm.incident}`}>Open its incident</Link>
        </p>
      )}
      <h2 className="section">Seen on {count(alarm.paths.length, 'path')}</h2>
      <ul className="plain-list">
        {known.slice(0, NAMED).map((path) => (
          <li key={path.id}>
            <Link to={`/paths/${path.id}`}>{pathName(path)}</Link>
            {!showing.has(path.id) && <span className="quiet"> (not any more)</span>}
          </li>
        ))}
        {known.length > NAMED && <li className="quiet">and {known.length - NAMED} more</li>}
      </ul>
    </section>
  );
}
