import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import type { Alarm, Part, PathItem } from '../../api/client';
import { queries } from '../../api/queries';
import { AlarmHistory, AlarmStateReason } from '../../components/alarm-state';
import { AlarmActions } from '../../components/handling';
import { Contracts, Earlier } from '../../components/impact';
import { MessageDetail } from '../../components/message';
import { count, interval, limitShare, ms, perCent } from '../../format';
import { Time } from '../../components/time';

/** Paths named here; the rest is counted. */
const NAMED = 8;

export function pathName(path: PathItem): string {
  const version = path.family === 'ipv6' ? 'IPv6' : 'IPv4';
  return `${path.site} to ${path.target} (${version}, ${path.method})`;
}

const PARTS: Record<Part, string> = {
  nothing: 'nothing',
  machine: "the agent's own machine",
  site: 'the site',
  names: 'names and resolvers',
  network: 'the network',
  service: 'the service',
  itinera: 'Itinera itself',
};

/** The figure of now, or the last one, and the highest so far, each named. */
function figures(alarm: Alarm): string {
  const when = alarm.state === 'open' ? 'now' : 'last';
  const limitRule = alarm.limits_by == null ? '' : ` by rule “${alarm.limits_by}”`;
  if (alarm.loss) {
    const { ratio, low, high } = alarm.loss;
    const limit =
      alarm.limit_loss_ratio == null
        ? ''
        : `, limit ${limitShare(alarm.limit_loss_ratio)}${limitRule}`;
    const highest = perCent(alarm.worst_loss_ratio);
    return `loss ${when} ${interval(ratio, low, high)}${limit}, highest ${highest}; `;
  }
  if (alarm.added_delay_us == null) return '';
  const limit =
    alarm.limit_added_delay_us == null
      ? ''
      : `, limit ${ms(alarm.limit_added_delay_us)}${limitRule}`;
  return `delay added ${when} ${ms(alarm.added_delay_us)}${limit}, highest ${ms(alarm.worst_added_delay_us)}; `;
}

/** What the selected alarm rests on, and where to go from here. */
export function Preview({ alarm }: { alarm: Alarm }) {
  const paths = useQuery(queries.paths());
  const shown = new Set(alarm.paths);
  const known = paths.data?.filter((path) => shown.has(path.id)) ?? [];
  const showing = new Set(alarm.showing);
  return (
    <section aria-label="The selected alarm">
      <h2 className="section first">{alarm.message.headline}</h2>
      <MessageDetail message={alarm.message} />
      <Contracts holders={alarm.contract_holders} />
      <AlarmStateReason alarm={alarm} />
      <p className="said quiet">
        Alarm {alarm.no}: {figures(alarm)}at fault: {PARTS[alarm.part]}; raised{' '}
        <Time at={alarm.raised_at} />.
      </p>
      {alarm.severity_by != null && (
        <p className="said quiet">
          Severity {alarm.perceived_severity} by rule “{alarm.severity_by}”; by its figures alone{' '}
          {alarm.severity_by_figures}.
        </p>
      )}
      {alarm.class !== 'service' && <Earlier no={alarm.no} />}
      {alarm.check != null && (
        <p className="said">
          <Link to={`/checks/${alarm.check}`}>The check that shows it</Link>
        </p>
      )}
      {alarm.message.code.startsWith('pair-') && (
        <p className="said">
          <Link to="/pairs">Two-way measurements of both directions</Link>
        </p>
      )}
      {alarm.incident != null && (
        <p className="said">
          <Link to={`/incidents/${alarm.incident_no ?? alarm.incident}`}>
            Open incident {alarm.incident_no}
          </Link>
        </p>
      )}
      <AlarmActions alarm={alarm} />
      {alarm.history.length > 1 && (
        <>
          <h3 className="section">History</h3>
          <AlarmHistory alarm={alarm} />
        </>
      )}
      {alarm.paths.length > 0 && (
        <>
          <h3 className="section">Seen on {count(alarm.paths.length, 'path')}</h3>
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
      )}
    </section>
  );
}
