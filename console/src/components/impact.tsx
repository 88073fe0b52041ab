import { Link } from 'react-router';
import type { Alarm, ContractHolder } from '../api/client';
import { count, listed } from '../format';
import { Span } from './time';

/** The providers that the sites pay: they can be called whichever network is at fault. */
export function Contracts({ holders }: { holders: ContractHolder[] }) {
  return holders.map((holder) => (
    <p className="said" key={`${holder.name} ${holder.contact}`}>
      Contract of {listed(holder.sites)}: {holder.name}, {holder.contact}
    </p>
  ));
}

/** Earlier alarms of the same cause at the same place. */
export function Earlier({ alarm }: { alarm: Alarm }) {
  const { count: times, last } = alarm.earlier;
  if (times === 0) {
    return <p className="said quiet">No earlier alarm of this cause at this place.</p>;
  }
  return (
    <>
      <p className="said">{count(times, 'earlier alarm')} of this cause at this place:</p>
      <ul className="plain-list">
        {last.map((one) => (
          <li key={one.no} className="quiet">
            <Link to={`/alarms?show=all&alarm=${one.no}`}>Alarm {one.no}</Link>{' '}
            <Span since={one.raised_at} until={one.cleared_at ?? null} />
            {one.closing != null && `: ${one.closing}`}
          </li>
        ))}
      </ul>
    </>
  );
}
