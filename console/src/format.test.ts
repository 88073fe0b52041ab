import { describe, expect, it } from 'vitest';
import { confidence, count, ms, perCent, utcTime } from './format';

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

  it('never claims certainty', () => {
    expect([confidence(0.94), confidence(1)]).toEqual(['94 %', 'over 99 %']);
  });

  it('names UTC as UTC', () => {
    expect(utcTime('2027-01-15T08:00:07.123+01:00')).toBe('2027-01-15T07:00:07Z');
  });
});
