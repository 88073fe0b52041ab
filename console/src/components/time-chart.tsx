import { dayTime } from '../format';
import { ticksOf } from '../time/axis';
import { useTimeScope } from '../time/scope';
import { ink } from '../theme';

/** Geometry that charts over time share: a drawing of WIDTH with room for labels on the left. */
export const WIDTH = 1160;
export const LEFT = 64;
export const RIGHT = WIDTH - 16;

/** Length of a point of a history in words. */
export function spanWords(seconds: number): string {
  const words: Record<number, string> = { 300: 'five minutes', 3600: 'an hour', 86400: 'a day' };
  return words[seconds] ?? `${seconds} s`;
}

/** Where a time (milliseconds since 1970) lies, within the range that is shown. */
export function placer([from, to]: [number, number]): (at: number) => number {
  return (at) => LEFT + ((Math.min(Math.max(at, from), to) - from) * (RIGHT - LEFT)) / (to - from);
}

/** A line of the scale with its label. */
export function ScaleLine({ y, label }: { y: number; label: string }) {
  return (
    <>
      <line x1={LEFT} x2={RIGHT} y1={y} y2={y} stroke={ink.faint} strokeWidth="0.6" />
      <text x={LEFT - 6} y={y + 4} textAnchor="end" fontSize="12" fill={ink.quiet}>
        {label}
      </text>
    </>
  );
}

/** What a part of the chart shows, with its unit. */
export function Caption({ y, text }: { y: number; text: string }) {
  return (
    <text x={LEFT} y={y} fontSize="12" fill={ink.quiet}>
      {text}
    </text>
  );
}

/** Times below the chart. */
export function TimeTicks({ range, y }: { range: [number, number]; y: number }) {
  const { zone } = useTimeScope();
  const x = placer(range);
  return (
    <>
      {ticksOf(...range).map((at) => (
        <text key={at} x={x(at)} y={y} textAnchor="middle" fontSize="12" fill={ink.quiet}>
          {dayTime(new Date(at).toISOString(), zone)}
        </text>
      ))}
    </>
  );
}
