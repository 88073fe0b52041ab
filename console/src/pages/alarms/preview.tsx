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

const PARTS: Record<string, string> = {
  machine: "the machine's own",
  site: "the site's",
  names: 'that of names and resolvers',
  network: "the network's",
  service: "the service's",
};

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
        {alarm.perceived_severity}; {PARTS[alarm.part] ?? alarm.part} part; raised{' '}
        <Time at={alarm.raised_at} />,{' '}
        {alarm.place ? `worst ${worst(alarm)}, a fixed limit held over` : 'held over'} since{' '}
        <Time at={alarm.since} />.
      </p>
      {alarm.place && <Call owners={alarm.place.owners} />}
      {alarm.check != null && (
        <p className="said">
          <Link to={`/checks/${alarm.check}`}>The check that shows it</Link>
        </p>
      )}
      {alarm.incident != null && (
        <p className="said">
          <Link to={`/incidents/${alarm.incident}`}>Open its incident</Link>
        </p>
      )}
      {alarm.sites.length === 0 ? (
        <>
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
        </>
      ) : (
        <p className="said quiet">Seen from {alarm.sites.join(', ')}.</p>
      )}
    </section>
  );
}
