import type { Cell, EventItem, Weave } from '../../api/client';
import { clockTime, dayOf } from '../../format';
import type { Zone } from '../../time/scope';

/** One owner's part of a path: a column of the weave, under that part of the staircase. */
export interface Segment {
  name: string;
  /** Indexes of its hops, from the first to after the last. */
  first: number;
  end: number;
}

function nameOf(hop: Weave['hops'][number]): string | null {
  if (hop.owner) return hop.owner.name;
  if (hop.private) return 'the site';
  return hop.address == null ? null : 'owner unknown';
}

/** Runs of hops with one owner; a silent hop belongs to the part before it. */
export function segmentsOf(hops: Weave['hops']): Segment[] {
  const segments: Segment[] = [];
  hops.forEach((hop, index) => {
    const last = segments.at(-1);
    const name = nameOf(hop) ?? last?.name ?? 'silent';
    if (last?.name === name) last.end = index + 1;
    else segments.push({ name, first: index, end: index + 1 });
  });
  return segments;
}

/** What a segment shows in one row: its worst hop. */
export function worstCell(cells: Cell[], { first, end }: Segment): Cell | undefined {
  const weight = (cell: Cell) => (cell.departure ?? -1) + (cell.kind === 'measured' ? 0.5 : 0);
  const own = cells.slice(first, end);
  return own.toSorted((a, b) => weight(b) - weight(a))[0];
}

/** A time is written beside every so many rows. */
const LABELLED = 6;

/** What is written beside rows, by their index: the time of day, and the day where it is another. */
export function labelsOf(weave: Pick<Weave, 'rows' | 'row_s'>, zone: Zone): Record<number, string> {
  const labels: Record<number, string> = {};
  const now = dayOf(new Date().toISOString(), zone);
  let last = now;
  for (const [index, { until }] of weave.rows.entries()) {
    if (index % LABELLED !== 0) continue;
    const day = dayOf(until, zone);
    const isNew = day !== last || weave.row_s * LABELLED >= 86_400;
    labels[index] = isNew && day !== now ? day : clockTime(until, zone);
    last = day;
  }
  return labels;
}

/** Events by the row that contains their start; rows without events are absent. */
export function marksOf(
  weave: Pick<Weave, 'rows' | 'row_s'>,
  events: EventItem[],
): Record<number, EventItem[]> {
  const marks: Record<number, EventItem[]> = {};
  for (const event of events) {
    const began = new Date(event.since).getTime();
    const index = weave.rows.findIndex((row) => {
      const until = new Date(row.until).getTime();
      return began <= until && began > until - weave.row_s * 1000;
    });
    if (index >= 0) (marks[index] ??= []).push(event);
  }
  return marks;
}
