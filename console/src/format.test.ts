import { describe, expect, it } from 'vitest';
import { count, ms, perCent, signedMs, utcTime } from './format';

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

  it('names UTC as UTC', () => {
    expect(utcTime('2027-01-15T08:00:07.123+01:00')).toBe('2027-01-15T07:00:07Z');
  });
});
