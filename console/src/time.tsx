import { Tooltip } from 'antd';
import { localTime, utcTime } from './format';

/** A time as the reader's own, with its zone; UTC on hover. */
export function Time({ at }: { at: string }) {
  return (
    <Tooltip title={utcTime(at)}>
      <time dateTime={at}>{localTime(at)}</time>
    </Tooltip>
  );
}
