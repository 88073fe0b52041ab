import { describe, expect, it } from 'vitest';
import { axisEnd, runsOf, shownRange, ticksOf } from './axis';

const point = (second: number) => ({ at: new Date(second * 1000).toISOString() });

describe('a history on an axis of time', () => {
  it('is interrupted where nothing was measured', () => {
    const points = [0, 300, 600, 1500, 1800].map((second) => point(second));
    const runs = runsOf({ points, span_s: 300 });
    expect(runs.map((run) => run.length)).toEqual([3, 2]);
    expect(runsOf({ points: [], span_s: 300 })).toEqual([]);
  });

  it('begins with the first point, and shows an hour at least', () => {
    const hours = (hour: number) => new Date(hour * 3_600_000).toISOString();
    const range = (first: number[]) =>
      shownRange({
        from: hours(0),
        to: hours(24),
        span_s: 300,
        points: first.map((hour) => point(hour * 3600)),
      }).map((at) => at / 3_600_000);
    expect(range([])).toEqual([0, 24]);
    expect(range([0, 1])).toEqual([0, 24]);
    expect(range([20])).toEqual([20, 24]);
    expect(range([23.9])).toEqual([23, 24]);
  });

  it('has round numbers on its axes', () => {
    expect([0, 7, 12, 52, 480].map((largest) => axisEnd(largest, 5))).toEqual([5, 8, 20, 60, 500]);
    const day = 86_400_000;
    const from = Date.UTC(2026, 2, 9, 13, 20);
    const spans = [day / 4, day, 7 * day, 30 * day, 400 * day];
    const ticks = spans.map((span) => ticksOf(from, from + span));
    for (const [index, each] of ticks.entries()) {
      expect(each.length).toBeGreaterThan(2);
      expect(each.length).toBeLessThanOrEqual(9);
      expect(each.every((at) => at >= from && at <= from + spans[index]!)).toBe(true);
    }
  });
});
