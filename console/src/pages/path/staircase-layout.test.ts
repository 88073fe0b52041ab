import { describe, expect, it } from 'vitest';
import type { Hop } from '../../api/client';
import { carried, frame, layOut, stairs, tickStep } from './staircase-layout';

function hop(number: number, change: Partial<Hop> = {}): Hop {
  return {
    hop: number,
    address: `198.18.0.${number}`,
    owner: { as_number: 64500, name: 'Northmere Carriage', contact: '' },
    private: false,
    sent: 60,
    lost: 0,
    got_here_ratio: 1,
    delay_us: number * 5000,
    delay_low_us: number * 5000 - 200,
    delay_high_us: number * 5000 + 200,
    usual_delay_us: number * 5000,
    verdict: 'clean',
    ...change,
  };
}

describe('the staircase', () => {
  it('is not raised by a router that answers slowly', () => {
    expect(carried([5000, 90000, 15000, null, 20000])).toEqual([5000, 15000, 15000, 20000, 20000]);
    const { columns } = layOut([hop(1), hop(2, { delay_us: 90000 }), hop(3)]);
    expect(columns[1]?.level).toBe(columns[2]?.level);
    expect(columns[1]?.slow).toBeLessThan(columns[2]?.level ?? 0);
  });

  it('shows rate limiting as a notch and carried loss as a lower line', () => {
    const hops = [
      hop(1),
      hop(2, { lost: 30, verdict: 'rate-limits' }),
      hop(3, { lost: 12, got_here_ratio: 0.8, verdict: 'onset' }),
    ];
    const { columns, onset } = layOut(hops);
    expect(columns.map((column) => column.notch !== null)).toEqual([false, true, false]);
    expect(columns[1]?.share).toBe(frame.share.top);
    expect(columns[2]?.share).toBeGreaterThan(frame.share.top);
    expect(onset).toBe(columns[2]?.left);
  });

  it('groups hops by owner, a silent hop only between hops of one owner', () => {
    const silent = { address: null, owner: null, verdict: 'silent' as const };
    const site = { owner: null, private: true };
    const between = layOut([hop(1, site), hop(2), hop(3, silent), hop(4)]);
    expect(between.bands.map((band) => band.name)).toEqual(['the site', 'Northmere Carriage']);
    const boundary = layOut([hop(1, site), hop(2, silent), hop(3)]);
    expect(boundary.bands.map((band) => band.name)).toEqual(['the site', '', 'Northmere Carriage']);
  });

  it('lays an earlier moment under it on the same scale, as far as that went', () => {
    const now = [hop(1), hop(2, { delay_us: 60000, got_here_ratio: 0.5 }), hop(3)];
    const { columns } = layOut(now, [hop(1), hop(2, { delay_us: 15000 })]);
    expect(columns[0]?.besideLevel).toBe(columns[0]?.level);
    expect(columns[1]?.besideLevel).toBe(columns[2]?.level);
    expect(columns[1]?.besideShare).toBeLessThan(columns[1]?.share ?? 0);
    expect(columns[2]?.besideLevel).toBeNull();
    expect(layOut(now).columns.every((column) => column.besideLevel === null)).toBe(true);
  });

  it('breaks its outline where nothing answers', () => {
    const dead = { delay_us: null, got_here_ratio: null, usual_delay_us: null };
    const { columns } = layOut([hop(1), hop(2, dead)]);
    expect(stairs(columns, (column) => column.share).match(/[MH]/g)).toEqual(['M', 'H']);
  });

  it('has three to six round ticks', () => {
    for (const max of [0.3, 1, 7, 49, 50.3, 180, 999]) {
      const ticks = Math.floor(max / tickStep(max)) + 1;
      expect(ticks, `${max}`).toBeGreaterThanOrEqual(3);
      expect(ticks, `${max}`).toBeLessThanOrEqual(6);
    }
  });
});
