/** Points of a history in order of time, each of `span_s` seconds; times without measurements have none. */
interface History<P> {
  from: string;
  to: string;
  span_s: number;
  points: P[];
}

interface At {
  at: string;
}

/** Shown parts of the history: each run of points without a gap. */
export function runsOf<P extends At>(history: Pick<History<P>, 'points' | 'span_s'>): P[][] {
  const runs: P[][] = [];
  let last: number | null = null;
  for (const point of history.points) {
    const at = new Date(point.at).getTime();
    const follows = last !== null && at - last <= history.span_s * 1000;
    if (follows) runs.at(-1)?.push(point);
    else runs.push([point]);
    last = at;
  }
  return runs;
}

/** The end of an axis from 0: a round number, at least `least`. */
export function axisEnd(largest: number, least: number): number {
  const wanted = Math.max(largest, least);
  const power = 10 ** Math.floor(Math.log10(wanted));
  return [1, 2, 3, 4, 5, 6, 8, 10].map((n) => n * power).find((end) => end >= wanted) ?? wanted;
}

/** What the time axis shows, in milliseconds since 1970: from the first point on, at least an hour. */
export function shownRange(history: History<At>): [number, number] {
  const [from, to] = [new Date(history.from).getTime(), new Date(history.to).getTime()];
  const first = history.points[0];
  if (first === undefined) return [from, to];
  const began = Math.min(new Date(first.at).getTime(), to - 3_600_000);
  return [Math.max(from, began), to];
}

/** Times for the axis in milliseconds since 1970: quarters of an hour, hours or days, at most nine. */
export function ticksOf(from: number, to: number): number[] {
  const hour = 3_600_000;
  const steps = [
    hour / 4,
    hour,
    3 * hour,
    6 * hour,
    24 * hour,
    168 * hour,
    744 * hour,
    2208 * hour,
  ];
  const step = steps.find((it) => (to - from) / it <= 8) ?? 8784 * hour;
  const first = Math.ceil(from / step) * step;
  const count = Math.max(0, Math.floor((to - first) / step) + 1);
  return Array.from({ length: count }, (_, index) => first + index * step);
}
