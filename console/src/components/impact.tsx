import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import type { ContractHolder } from '../api/client';
import { queries } from '../api/queries';
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

/** Earlier alarms of the same cause at the place of an alarm. */
export function Earlier({ no }: { no: number }) {
  const earlier = useQuery(queries.alarm(no)).data?.earlier;
  if (earlier == null) return null;
  if (earlier.count === 0) {
    return <p className="said quiet">No earlier alarm of this cause at this place.</p>;
  }
  return (
    <>
      <p className="said">{count(earlier.count, 'earlier alarm')} of this cause at this place:</p>
      <ul className="plain-list">
        {earlier.last.map((one) => (
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
