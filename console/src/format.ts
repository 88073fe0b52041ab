import type { Cause, Step } from './api/client';
import type { Zone } from './time/scope';

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

/** A limit as it was set, to a thousandth of a per cent. */
export function limitShare(ratio: number): string {
  return `${Math.round(ratio * 1e5) / 1e3} %`;
}

/** A share of what there is, where little is not nothing. */
export function usedShare(ratio: number | null | undefined): string {
  return ratio != null && ratio > 0 && ratio < 0.01 ? 'under 1 %' : perCent(ratio);
}

/** "58 of 60". */
export function ofAll(part: number, all: number): string {
  return `${part} of ${all}`;
}

function parts(options: Intl.DateTimeFormatOptions, zone: Zone, rfc3339: string): string {
  const inZone = zone === 'utc' ? { ...options, timeZone: 'UTC' } : options;
  return new Intl.DateTimeFormat(undefined, { ...inZone, hourCycle: 'h23' }).format(
    new Date(rfc3339),
  );
}

/** Date, time to the second, and zone. */
export function fullTime(rfc3339: string, zone: Zone): string {
  const options: Intl.DateTimeFormatOptions = {
    day: 'numeric',
    month: 'short',
    hour: '2-digit',
    minute: '2-digit',
    second: '2-digit',
    timeZoneName: 'short',
  };
  return parts(options, zone, rfc3339);
}

/** Day and month. */
export function dayOf(rfc3339: string, zone: Zone): string {
  return parts({ day: 'numeric', month: 'short' }, zone, rfc3339);
}

/** Time of day; with its date where that is not today. "Z" marks UTC. */
export function dayTime(rfc3339: string, zone: Zone): string {
  const today = dayOf(rfc3339, zone) === dayOf(new Date().toISOString(), zone);
  return `${today ? '' : `${dayOf(rfc3339, zone)}, `}${clockTime(rfc3339, zone)}`;
}

/** Time of day. "Z" marks UTC. */
export function clockTime(rfc3339: string, zone: Zone): string {
  const clock = parts({ hour: '2-digit', minute: '2-digit' }, zone, rfc3339);
  return zone === 'utc' ? `${clock}Z` : clock;
}

/** How long from one time to another: "45 s", "6 min", "3 h", "2 days". */
export function duration(from: string, to: string): string {
  const seconds = Math.max(0, Math.round((Date.parse(to) - Date.parse(from)) / 1000));
  if (seconds < 120) return `${seconds} s`;
  if (seconds < 7200) return `${Math.floor(seconds / 60)} min`;
  if (seconds < 172_800) return `${Math.floor(seconds / 3600)} h`;
  return `${Math.floor(seconds / 86_400)} days`;
}

/** A share with its 95 % interval: "13 % (11–15 %)". */
export function interval(
  ratio: number | null | undefined,
  low: number | null | undefined,
  high: number | null | undefined,
): string {
  if (ratio == null || low == null || high == null) return perCent(ratio);
  return `${perCent(ratio)} (${Math.round(low * 100)}–${perCent(high)})`;
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
  if (size < 10_000) return `${size} B`;
  if (size < 10e6) return `${Math.round(size / 1000)} kB`;
  if (size < 10e9) return `${Math.round(size / 1e6)} MB`;
  return `${Math.round(size / 1e9)} GB`;
}

const steps: Record<Step, string> = {
  name: 'name',
  connect: 'connect',
  tls: 'TLS',
  greeting: 'greeting',
  dialogue: 'dialogue',
  'first-byte': 'first byte',
  transfer: 'transfer',
  content: 'content',
};

/** A step of a check. */
export function stepName(step: Step): string {
  return steps[step];
}

/** The step that failed, and why; nothing for a good result. */
export function failure(result: {
  failed_at?: Step | null | undefined;
  cause?: Cause | null | undefined;
}): string | null {
  const { failed_at: step, cause } = result;
  return step == null || cause == null ? null : `${stepName(step)}: ${cause.text}`;
}

/** "Eskerry, Dunverra" up to three, then how many more. */
export function listed(names: string[]): string {
  const shown = names.slice(0, 3).join(', ');
  return names.length > 3 ? `${shown} and ${names.length - 3} more` : shown;
}
