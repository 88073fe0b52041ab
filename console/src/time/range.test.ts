import { describe, expect, it } from 'vitest';
import { beside, endingAt, lengthOf, parsed, timesOf, written } from './range';

const NOW = Date.parse('2026-01-31T12:00:30.250Z');

describe('a range of time', () => {
  it('is written into an address as it is read', () => {
    const texts = ['PT15M', 'PT6H', 'P7D', 'P400D', '20260131T1000Z--20260131T120015Z'];
    expect(texts.map((text) => written(parsed(text)!))).toEqual(texts);
    expect(parsed('PT24H')).toEqual({ kind: 'last', seconds: 86_400 });
  });

  it('is a minute at least', () => {
    expect(written({ kind: 'last', seconds: 15 })).toBe('PT1M');
  });

  it('is refused where it is none', () => {
    const wrong = ['', 'P', 'PT0M', 'P401D', '1h', 'P7DT', '20260131T1200Z--20260131T1000Z'];
    expect(wrong.filter((text) => parsed(text) !== null)).toEqual([]);
    for (const text of ['20261331T1000Z--20261331T1100Z', '20260131T1000Z', 'a--b--c']) {
      expect(parsed(text)).toBeNull();
    }
    expect(parsed(null)).toBeNull();
  });

  it('ends now, or where it says', () => {
    expect(timesOf(parsed('PT1H')!, NOW)).toEqual({
      from: '2026-01-31T11:00:30.250Z',
      to: '2026-01-31T12:00:30.250Z',
    });
    const fixed = parsed('20260131T1000Z--20260131T1130Z')!;
    expect(timesOf(fixed, NOW).to).toBe('2026-01-31T11:30:00.000Z');
    expect(lengthOf(fixed)).toBe(5400);
  });

  it('moves by its own length, and ends now where it would reach beyond', () => {
    const last = parsed('PT1H')!;
    const before = beside(last, -1, NOW);
    expect(written(before)).toBe('20260131T100030Z--20260131T110030Z');
    expect(written(beside(before, -1, NOW))).toBe('20260131T090030Z--20260131T100030Z');
    expect(beside(before, 1, NOW + 20_000)).toEqual(last);
    const half = written(beside(before, 1, NOW + 1_800_000));
    expect(half).toBe('20260131T110030Z--20260131T120030Z');
  });

  it('can be that of a row', () => {
    expect(written(endingAt('2026-01-31T12:00:00Z', 900))).toBe('20260131T1145Z--20260131T1200Z');
  });
});
