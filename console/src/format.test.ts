import { describe, expect, it } from 'vitest';
import { clockTime, count, dayTime, duration, interval, ms, perCent, signedMs } from './format';

describe('format', () => {
  it('says nothing where nothing was measured', () => {
    expect([ms(null), perCent(undefined)]).toEqual(['–', '–']);
  });

  it('gives units to every number', () => {
    expect([ms(8449), perCent(0.194), count(1, 'path'), count(2, 'path')]).toEqual([
      '8.4 ms',
      '19 %',
      '1 path',
      '2 paths',
    ]);
  });

  it('signs differences, but not a rounded zero', () => {
    expect([signedMs(-20), signedMs(1540), signedMs(-60)]).toEqual([
      '0.0 ms',
      '+1.5 ms',
      '−0.1 ms',
    ]);
  });

  it('marks UTC, and gives the date of another day', () => {
    expect(clockTime('2027-01-15T08:00:07.123+01:00', 'utc')).toBe('07:00Z');
    expect(dayTime('2027-01-15T08:00:07.123+01:00', 'utc')).toMatch(/15.*07:00Z$/);
    expect(dayTime(new Date().toISOString(), 'utc')).toMatch(/^\d\d:\d\dZ$/);
  });

  it('gives durations in their largest fitting unit, and shares with their interval', () => {
    const from = '2027-01-15T08:00:00Z';
    const after = (s: number) => new Date(Date.parse(from) + s * 1000).toISOString();
    expect([-5, 45, 400, 9000, 200_000].map((seconds) => duration(from, after(seconds)))).toEqual([
      '0 s',
      '45 s',
      '6 min',
      '2 h',
      '2 days',
    ]);
    expect(interval(0.13, 0.112, 0.152)).toBe('13 % (11–15 %)');
    expect(interval(0.13, null, null)).toBe('13 %');
  });
});
