import { describe, expect, it } from 'vitest';
import type { PathItem } from '../../api/client';
import { boardOf, keyOf } from './board-cells';

function path(id: string, over: Partial<NonNullable<PathItem['latest']>> | null): PathItem {
  return {
    id,
    agent: 'a',
    site: 'Eskerry',
    target: 'Seat Booking, first front',
    service: 'Seat Booking',
    address: '198.18.128.10',
    family: 'ipv4',
    method: 'icmp-echo',
    dscp: 0,
    size_bytes: 64,
    latest: over && {
      until: '2026-01-01T00:00:00Z',
      span_s: 60,
      rounds: 30,
      hops: 9,
      end_sent: 60,
      end_lost: 0,
      end_loss_ratio: 0,
      end_delay_us: 51_234,
      departure: 0,
      ...over,
    },
  };
}

describe('board', () => {
  it('shows the worst path of a site and service', () => {
    const bad = path('b', { departure: 4, end_lost: 12, end_loss_ratio: 0.2 });
    const { cells } = boardOf([path('a', {}), bad, path('c', { departure: null })]);
    const cell = cells.get(keyOf('Eskerry', 'Seat Booking'));
    expect(cell?.path.id).toBe('b');
    expect(cell?.paths).toBe(3);
    expect(cell?.text).toBe('12 of 60 lost');
    expect(cell?.title).toContain('12 of 60');
  });

  it('says the delay where nothing is lost, silence and what is not measured', () => {
    const text = (over: Parameters<typeof path>[1]) =>
      [...boardOf([path('a', over)]).cells.values()][0]?.text;
    expect(text({})).toBe('51.2 ms');
    expect(text({ end_lost: 60, end_loss_ratio: 1 })).toBe('silent');
    expect(text(null)).toBe('not measured');
  });
});
