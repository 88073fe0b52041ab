import type { Hop } from '../../api/client';

/** Geometry of the staircase in a fixed drawing of WIDTH by HEIGHT, without any drawing. */

export const WIDTH = 1160;
export const HEIGHT = 430;

/** The picture's horizontal edges and the vertical extents of its parts. */
export const frame = {
  left: 64,
  right: WIDTH - 16,
  owners: { top: 8, bottom: 34 },
  delay: { top: 62, bottom: 268 },
  share: { top: 304, bottom: 372 },
  labels: 390,
} as const;

export interface Column {
  hop: Hop;
  left: number;
  right: number;
  /** Level of the carried delay; absent where nothing from here on answered. */
  level: number | null;
  /** The same for what is usual. */
  usual: number | null;
  /** Quartiles of this hop's own answers, as levels: [upper edge, lower edge]. */
  spread: [number, number] | null;
  /** Where this hop's own answers lie when they are slower than what is carried. */
  slow: number | null;
  /** Level of the share of packets that got here. */
  share: number | null;
  /** The same two of the moment laid under this one. */
  besideLevel: number | null;
  besideShare: number | null;
  /** Level of the share of probes that a rate-limiting hop answered. */
  notch: number | null;
}

export interface OwnerBand {
  name: string;
  left: number;
  right: number;
}

export interface Layout {
  columns: Column[];
  bands: OwnerBand[];
  /** Delay ticks: text and level. */
  ticks: { ms: number; y: number }[];
  /** Left edge of the column at the onset of the fault. */
  onset: number | null;
}

/** Slower than what is carried by this much is shown as a slow answer, in microseconds. */
const SLOW_US = 2000;
/**
 * What a packet has gathered by each hop: a later hop's answer passed this one, so its delay
 * bounds what this one adds from above. A router's slow answers do not raise the stairs.
 */
export function carried(delays: (number | null | undefined)[]): (number | null)[] {
  const result: (number | null)[] = [];
  let least: number | null = null;
  for (const delay of delays.toReversed()) {
    if (delay != null) least = least === null ? delay : Math.min(least, delay);
    result.push(least);
  }
  return result.toReversed();
}

/** A round step that gives three to six ticks up to `max`. */
export function tickStep(max: number): number {
  const rough = Math.max(max, 0.001) / 4;
  const power = 10 ** Math.floor(Math.log10(rough));
  const nice = [1, 2, 2.5, 5, 10].find((factor) => factor * power >= rough) ?? 10;
  return nice * power;
}

function ownerName(hop: Hop): string | null {
  if (hop.owner) return hop.owner.name;
  if (hop.private) return 'the site';
  return hop.address == null ? null : 'owner unknown';
}

function ownerBands(columns: Column[]): OwnerBand[] {
  const names = columns.map(({ hop }) => ownerName(hop));
  const bands: OwnerBand[] = [];
  columns.forEach(({ left, right }, index) => {
    const last = bands.at(-1);
    const next = names.slice(index).find((name) => name !== null);
    // A silent hop belongs to an owner only when the hops on both sides do.
    const name = names[index] ?? (next !== undefined && next === last?.name ? next : '');
    if (last?.name === name) last.right = right;
    else bands.push({ name, left, right });
  });
  return bands;
}

export function layOut(hops: Hop[], beside: Hop[] = []): Layout {
  const width = (frame.right - frame.left) / Math.max(hops.length, 1);
  const own = hops.map((hop) => hop.delay_us);
  const levels = carried(own);
  const usual = carried(hops.map((hop) => hop.usual_delay_us));
  const then = carried(beside.map((hop) => hop.delay_us));
  const all = [...own, ...hops.map((h) => h.delay_high_us), ...usual, ...then].filter(
    (us) => us != null,
  );
  const max = Math.max(...all, 1000) * 1.04;
  const delayY = (us: number): number =>
    frame.delay.bottom - (us / max) * (frame.delay.bottom - frame.delay.top);
  const shareY = (ratio: number): number =>
    frame.share.bottom - ratio * (frame.share.bottom - frame.share.top);
  const level = (us: number | null | undefined): number | null => (us == null ? null : delayY(us));
  const shareOf = (got: number | null | undefined) => (got == null ? null : shareY(got));
  const columns = hops.map((hop, index): Column => {
    const left = frame.left + index * width;
    const delay = own[index];
    const base = levels[index];
    const slow = delay != null && base != null && delay - base > SLOW_US;
    const got = hop.got_here_ratio ?? null;
    const refuses = hop.verdict === 'rate-limits' && hop.sent > 0;
    return {
      hop,
      left,
      right: left + width,
      level: level(base),
      usual: level(usual[index]),
      spread:
        slow || hop.delay_low_us == null || hop.delay_high_us == null
          ? null
          : [delayY(hop.delay_high_us), delayY(hop.delay_low_us)],
      slow: slow && delay != null ? delayY(delay) : null,
      share: got === null ? null : shareY(got),
      besideLevel: level(then[index]),
      besideShare: shareOf(beside[index]?.got_here_ratio),
      notch: refuses ? shareY((hop.sent - hop.lost) / hop.sent) : null,
    };
  });
  const step = tickStep(max / 1000);
  const ticks: { ms: number; y: number }[] = [];
  for (let at = 0; at * 1000 <= max; at += step) ticks.push({ ms: at, y: delayY(at * 1000) });
  const onset = columns.find(({ hop }) => hop.verdict === 'onset');
  return { columns, bands: ownerBands(columns), ticks, onset: onset?.left ?? null };
}

/** A name that fits, cut with an ellipsis where it does not; the table has it whole. */
export function fitted(name: string, width: number): string {
  const room = Math.floor(width / 7.2);
  return name.length <= room ? name : `${name.slice(0, Math.max(room - 1, 1))}…`;
}

/** The outline of stairs over columns: flat within a column, upright between two. */
export function stairs(
  columns: Column[],
  level: (column: Column) => number | null,
  start?: number,
): string {
  let path = '';
  let pen = false;
  if (start !== undefined) {
    path = `M${frame.left - 18} ${start.toFixed(1)}H${frame.left}`;
    pen = true;
  }
  for (const column of columns) {
    const y = level(column);
    if (y === null) {
      pen = false;
      continue;
    }
    path += pen ? `V${y.toFixed(1)}` : `M${column.left.toFixed(1)} ${y.toFixed(1)}`;
    path += `H${column.right.toFixed(1)}`;
    pen = true;
  }
  return path;
}
