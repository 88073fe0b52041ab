/** A range of time: the last so many seconds, or between two times (RFC 3339). */
export type Range =
  { kind: 'last'; seconds: number } | { kind: 'between'; from: string; to: string };

/** Without another choice: the last hour. */
export const USUAL: Range = { kind: 'last', seconds: 3600 };

/** The longest: rollups are kept for 400 days. */
export const LONGEST_S = 400 * 86_400;

const DURATION = /^P(?:(\d{1,3})D)?(?:T(?=\d)(?:(\d{1,4})H)?(?:(\d{1,5})M)?)?$/;
const MOMENT = /^(\d{4})(\d\d)(\d\d)T(\d\d)(\d\d)(\d\d)?Z$/;

function duration(text: string): number | null {
  const parts = DURATION.exec(text);
  if (parts === null) return null;
  const [days, hours, minutes] = parts.slice(1).map((part) => Number(part ?? 0));
  const seconds = (days ?? 0) * 86_400 + (hours ?? 0) * 3600 + (minutes ?? 0) * 60;
  return seconds > 0 && seconds <= LONGEST_S ? seconds : null;
}

function moment(text: string): number | null {
  const parts = MOMENT.exec(text);
  if (parts === null) return null;
  const [year, month, day, hour, minute, second = '00'] = parts.slice(1);
  const at = Date.parse(`${year}-${month}-${day}T${hour}:${minute}:${second}Z`);
  return Number.isNaN(at) ? null : at;
}

/**
 * A range as the address has it, after ISO 8601: a duration up to now ("PT6H", "P7D"), or a begin and
 * an end in UTC in basic form ("20260131T1000Z--20260131T1200Z"); null for anything else.
 */
export function parsed(text: string | null): Range | null {
  if (text === null) return null;
  const seconds = duration(text);
  if (seconds !== null) return { kind: 'last', seconds };
  const [begin, end, more] = text.split('--');
  if (begin === undefined || end === undefined || more !== undefined) return null;
  const [from, to] = [moment(begin), moment(end)];
  if (from === null || to === null || from >= to || to - from > LONGEST_S * 1000) return null;
  return between(from, to);
}

function between(from: number, to: number): Range {
  return { kind: 'between', from: new Date(from).toISOString(), to: new Date(to).toISOString() };
}

function basic(rfc3339: string): string {
  const [day = '', clock = ''] = new Date(rfc3339).toISOString().split('T');
  const [hour, minute, second] = clock.slice(0, 8).split(':');
  return `${day.replaceAll('-', '')}T${hour}${minute}${second === '00' ? '' : second}Z`;
}

/** The text that `parsed` reads. */
export function written(range: Range): string {
  if (range.kind === 'between') return `${basic(range.from)}--${basic(range.to)}`;
  const { seconds } = range;
  if (seconds % 86_400 === 0) return `P${seconds / 86_400}D`;
  return seconds % 3600 === 0
    ? `PT${seconds / 3600}H`
    : `PT${Math.max(1, Math.round(seconds / 60))}M`;
}

/** How long a range is, in seconds. */
export function lengthOf(range: Range): number {
  if (range.kind === 'last') return range.seconds;
  return (Date.parse(range.to) - Date.parse(range.from)) / 1000;
}

/** Where a range ends; undefined where that is always now. */
export function endOf(range: Range): string | undefined {
  return range.kind === 'between' ? range.to : undefined;
}

/** Begin and end of a range at a time (milliseconds since 1970). */
export function timesOf(range: Range, now: number): { from: string; to: string } {
  if (range.kind === 'between') return { from: range.from, to: range.to };
  const from = new Date(now - range.seconds * 1000).toISOString();
  return { from, to: new Date(now).toISOString() };
}

/** The range of the same length before or after this one; up to now where less than a tenth is left to now. */
export function beside(range: Range, direction: -1 | 1, now: number): Range {
  const { from, to } = timesOf(range, now);
  const by = direction * lengthOf(range) * 1000;
  // Whole seconds, as in an address.
  const [begin, end] = [from, to].map((at) => Math.floor(Date.parse(at) / 1000) * 1000 + by);
  if (begin === undefined || end === undefined || end + Math.abs(by) / 10 >= now) {
    return { kind: 'last', seconds: lengthOf(range) };
  }
  return between(begin, end);
}

/** The range of so many seconds that ends at a time. */
export function endingAt(until: string, seconds: number): Range {
  const to = Date.parse(until);
  return between(to - seconds * 1000, to);
}
