import { describe, expect, it } from 'vitest';
import type { HistoryPoint } from '../../api/client';
import { differingHops, lossOf } from './history-layout';

const point = (second: number, lost: number): HistoryPoint => ({
  at: new Date(second * 1000).toISOString(),
  rounds: 10,
  sent: 20,
  lost,
  loss_ratio: lost / 20,
  delay_p5_us: 900,
  delay_p50_us: 1000,
  delay_p95_us: 1500,
});

it('loss is that of all points together', () => {
  const points = [0, 300, 1500].map((second) => point(second, 1));
  expect(lossOf(points)).toEqual({ sent: 60, lost: 3 });
});

describe('two routes of a path', () => {
  it('differ where another node answers, none does, or one has ended', () => {
    const route = (...addresses: (string | null)[]) => ({ addresses });
    const first = route('10.1.0.1', '198.18.0.1', null, '198.18.0.9');
    expect(differingHops(first, first)).toEqual([]);
    expect(differingHops(route('10.1.0.1', '198.18.0.2', '198.18.0.3'), first)).toEqual([
      { hop: 2, address: '198.18.0.2' },
      { hop: 3, address: '198.18.0.3' },
      { hop: 4, address: undefined },
    ]);
    expect(differingHops(route('10.1.0.1', null, null, '198.18.0.9'), first)).toEqual([
      { hop: 2, address: null },
    ]);
  });
});
