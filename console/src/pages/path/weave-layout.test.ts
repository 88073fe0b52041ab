import type { EventItem } from '../../api/client';
import { describe, expect, it } from 'vitest';
import type { Cell } from '../../api/client';
import { labelsOf, marksOf, segmentsOf, worstCell } from './weave-layout';

const owner = (name: string) => ({ name, as_number: 64500, contact: '' });

describe('weave', () => {
  it('has one column for each part of one owner, silent hops with the part before them', () => {
    const segments = segmentsOf([
      { hop: 1, address: '10.1.0.1', private: true },
      { hop: 2, address: '198.18.64.1', private: false, owner: owner('Northmere') },
      { hop: 3, private: false },
      { hop: 4, address: '198.18.64.4', private: false, owner: owner('Northmere') },
      { hop: 5, address: '198.18.128.1', private: false, owner: owner('Stannoch') },
    ]);
    expect(segments).toEqual([
      { name: 'the site', first: 0, end: 1 },
      { name: 'Northmere', first: 1, end: 4 },
      { name: 'Stannoch', first: 4, end: 5 },
    ]);
  });

  it('shows the worst hop of a part', () => {
    const cells: Cell[] = [
      { kind: 'measured', departure: 4 },
      { kind: 'silent' },
      { kind: 'measured', departure: 2 },
      { kind: 'measured' },
    ];
    expect(worstCell(cells, { name: '', first: 1, end: 4 })).toEqual(cells[2]);
    expect(worstCell(cells, { name: '', first: 1, end: 2 })).toEqual(cells[1]);
    expect(worstCell([], { name: '', first: 0, end: 1 })).toBeUndefined();
  });
});

it('events stand beside the row in which they began', () => {
  const rows = ['15:00:00', '15:01:00'].map((clock) => ({
    until: `2026-01-31T${clock}Z`,
    cells: [],
  }));
  const event = (since: string): EventItem => ({
    id: since,
    no: 1,
    kind: 'service-failed',
    message: {
      code: 'not-measured',
      headline: 'It fails',
      detail: [],
    },
    part: 'service',
    site: 'Eskerry',
    agent: 'a',
    since: `2026-01-31T${since}Z`,
    raised_at: `2026-01-31T${since}Z`,
  });
  const marks = marksOf({ rows, row_s: 60 }, [event('15:00:30'), event('14:00:00')]);
  expect(Object.keys(marks)).toEqual(['1']);
  expect(marks[1]?.[0]?.since).toContain('15:00:30');
});

it('the day stands beside the first row of it, the time of day beside the others', () => {
  const begin = Date.UTC(2026, 0, 30, 12, 0);
  const rows = (rowS: number, count: number) =>
    Array.from({ length: count }, (_, index) => ({
      until: new Date(begin + index * rowS * 1000).toISOString(),
      cells: [],
    }));
  const hourly = labelsOf({ rows: rows(3600, 19), row_s: 3600 }, 'utc');
  expect(Object.keys(hourly)).toEqual(['0', '6', '12', '18']);
  expect(hourly[0]).toMatch(/30/);
  expect(hourly[6]).toBe('18:00Z');
  expect(hourly[12]).toMatch(/31/);
  expect(hourly[18]).toBe('06:00Z');
  const daily = labelsOf({ rows: rows(86_400, 7), row_s: 86_400 }, 'utc');
  expect(daily[6]).toMatch(/5/);
});
