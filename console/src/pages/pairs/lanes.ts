import type { Pair, Direction } from '../../api/client';
import { count } from '../../format';

/** One direction of a pair. */
export interface Lane {
  pair: Pair;
  way: 'forward' | 'back';
  from: string;
  to: string;
  seen: Direction;
}

/** Both directions of every pair, the ones that lose most first, a pair's two together. */
export function lanesOf(pairs: Pair[]): Lane[] {
  const worst = ({ forward, back }: Pair) =>
    Math.max(forward.loss_ratio ?? 0, back.loss_ratio ?? 0);
  return pairs
    .toSorted((a, b) => worst(b) - worst(a) || a.no - b.no)
    .flatMap((pair): Lane[] => [
      { pair, way: 'forward', from: pair.near, to: pair.far, seen: pair.forward },
      { pair, way: 'back', from: pair.far, to: pair.near, seen: pair.back },
    ]);
}

/** Below this share of at least so many packets nothing is said. */
const REMARKABLE = 0.005;
const ENOUGH = 50;

function loses({ arrived, lost, loss_ratio: ratio }: Direction): boolean {
  return arrived + lost >= ENOUGH && (ratio ?? 0) >= REMARKABLE;
}

/** The whole page in a sentence. */
export function sentenceOf(pairs: Pair[]): string {
  const silent = pairs.filter(
    ({ sent, forward, back }) => sent > 0 && forward.arrived + back.arrived === 0,
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
  return `From ${worst.from} to ${worst.to} ${share} % of packets are lost.${more}${cut}`;
}
