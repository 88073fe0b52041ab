import { Tooltip } from 'antd';
import { dayTime, duration, fullTime } from '../format';
import { useTimeScope } from '../time/scope';
import { useNow } from './use-now';

/** A time in the zone of the header's switch; the other zone on hover. */
export function Time({ at }: { at: string }) {
  const { zone } = useTimeScope();
  return (
    <Tooltip title={fullTime(at, zone === 'utc' ? 'local' : 'utc')}>
      <time dateTime={at}>{fullTime(at, zone)}</time>
    </Tooltip>
  );
}

/** When something began and how long it lasts or lasted: "10:03, 6 min". */
export function Span({ since, until }: { since: string; until?: string | null }) {
  const { zone } = useTimeScope();
  const now = useNow();
  const end = until ?? now;
  return (
    <Tooltip title={`${fullTime(since, 'utc')}; ${fullTime(since, 'local')}`}>
      <time dateTime={since}>
        {dayTime(since, zone)}, {duration(since, end)}
      </time>
    </Tooltip>
  );
}
