import type { Pair, Direction } from '../../api/client';
import { count } from '../../format';

/** One direction of a pair. */
export interface Lane {
  pair: Pair;
  direction: 'forward' | 'return';
  from: string;
  to: string;
  seen: Direction;
}

/** Both directions of every pair, the ones that lose most first, a pair's two together. */
export function lanesOf(pairs: Pair[]): Lane[] {
  const worst = (pair: Pair) => Math.max(pair.forward.loss_ratio ?? 0, pair.return.loss_ratio ?? 0);
  return pairs
    .toSorted((a, b) => worst(b) - worst(a) || a.no - b.no)
    .flatMap((pair): Lane[] => [
      { pair, direction: 'forward', from: pair.near, to: pair.far, seen: pair.forward },
      { pair, direction: 'return', from: pair.far, to: pair.near, seen: pair.return },
    ]);
}

/** A direction counts as lossy from this share of at least so many packets. */
const REMARKABLE = 0.005;
const ENOUGH = 50;

function loses({ arrived, lost, loss_ratio: ratio }: Direction): boolean {
  return arrived + lost >= ENOUGH && (ratio ?? 0) >= REMARKABLE;
}

/** The headline of the page. */
export function headlineOf(pairs: Pair[]): string {
  const silent = pairs.filter(
    (pair) => pair.sent > 0 && pair.forward.arrived + pair.return.arrived === 0,
  );
  const lossy = lanesOf(pairs).filter(({ seen }) => loses(seen));
  const [worst] = lossy.toSorted((a, b) => (b.seen.loss_ratio ?? 0) - (a.seen.loss_ratio ?? 0));
  const cut = silent
    .map(({ near, far }) => ` ${near} and ${far} cannot reach each other.`)
    .join('');
  if (worst === undefined) {
    const whole = pairs.length - silent.length;
    return `No notable loss on ${count(whole, 'pair')}, in either direction.${cut}`;
  }
  const share = ((worst.seen.loss_ratio ?? 0) * 100).toFixed(1);
  const others = lossy.length - 1;
  const more =
    others === 0
      ? ''
      : ` ${others} more ${others === 1 ? 'direction loses' : 'directions lose'} packets.`;
  return `${share} % loss from ${worst.from} to ${worst.to}.${more}${cut}`;
}
