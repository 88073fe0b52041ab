/** The one place where units become text for users. */

const absent = '–';

/** Microseconds as milliseconds with one decimal. */
export function ms(us: number | null | undefined): string {
  return us == null ? absent : `${(us / 1000).toFixed(1)} ms`;
}

/** A difference in microseconds as milliseconds with its sign; none when it rounds to zero. */
export function signedMs(us: number): string {
  if (Math.abs(us) < 50) return ms(0);
  return `${us < 0 ? '−' : '+'}${ms(Math.abs(us))}`;
}

/** A ratio from 0 to 1 as whole per cent. */
export function perCent(ratio: number | null | undefined): string {
  return ratio == null ? absent : `${Math.round(ratio * 100)} %`;
}

/** A share of what there is, where little is not nothing. */
export function usedShare(ratio: number | null | undefined): string {
  return ratio != null && ratio > 0 && ratio < 0.01 ? 'under 1 %' : perCent(ratio);
}

/** "58 of 60". */
export function ofAll(part: number, all: number): string {
  return `${part} of ${all}`;
}

/** A local time with its zone. */
export function localTime(rfc3339: string): string {
  return new Intl.DateTimeFormat(undefined, {
    day: 'numeric',
    month: 'short',
    hour: '2-digit',
    minute: '2-digit',
    second: '2-digit',
    timeZoneName: 'short',
    hourCycle: 'h23',
  }).format(new Date(rfc3339));
}

/** A local time of day. */
export function clockTime(rfc3339: string): string {
  return new Intl.DateTimeFormat(undefined, {
    hour: '2-digit',
    minute: '2-digit',
    hourCycle: 'h23',
  }).format(new Date(rfc3339));
}

/** The same time in UTC (RFC 3339), to the second. */
export function utcTime(rfc3339: string): string {
  return `${new Date(rfc3339).toISOString().slice(0, 19)}Z`;
}

/** A count with its noun. */
export function count(n: number, one: string, many = `${one}s`): string {
  return `${n} ${n === 1 ? one : many}`;
}

/** Bits per second. */
export function bits(perSecond: number | null | undefined): string {
  if (perSecond == null) return absent;
  return perSecond < 1e6
    ? `${(perSecond / 1e3).toFixed(1)} kb/s`
    : `${(perSecond / 1e6).toFixed(1)} Mb/s`;
}

/** Bytes per second. */
export function rate(perSecond: number | null | undefined): string {
  if (perSecond == null) return absent;
  return perSecond < 1e6
    ? `${(perSecond / 1e3).toFixed(1)} kB/s`
    : `${(perSecond / 1e6).toFixed(1)} MB/s`;
}

/** Bytes. */
export function bytes(size: number): string {
  return size < 10_000 ? `${size} B` : `${Math.round(size / 1000)} kB`;
}
