import { expect, test } from 'vitest';
import { barsOf, stepsOf } from './waterfall';

test('steps follow each other and fill the whole', () => {
  const steps = stepsOf({
    phases: [
      { step: 'connect', took_us: 50 },
      { step: 'tls', took_us: 100 },
      { step: 'first-byte', took_us: 50 },
    ],
  });
  expect(steps.map((step) => [step.from, step.to])).toEqual([
    [0, 0.25],
    [0.25, 0.75],
    [0.75, 1],
  ]);
  expect(stepsOf({ phases: [] })).toEqual([]);
});

test('resources lie where they were asked for, and the slowest is known', () => {
  const one = (path: string, begun_us: number, took_us: number, first_byte_us: number | null) => ({
    path,
    begun_us,
    took_us,
    first_byte_us,
    size_bytes: 10,
    status: 200,
    cause:
      first_byte_us === null ? { code: 'no-answer' as const, text: 'no answer in time' } : null,
  });
  const { bars, wholeUs } = barsOf([one('/a', 0, 100, 50), one('/b', 100, 300, null)]);
  expect(wholeUs).toBe(400);
  expect(bars[0]).toMatchObject({
    begun: 0,
    first: 0.125,
    done: 0.25,
    failed: null,
    slowest: false,
  });
  expect(bars[1]).toMatchObject({ begun: 0.25, done: 1, slowest: true });
  expect(bars[1]?.failed).toBe('no answer in time');
  expect(barsOf([]).bars).toEqual([]);
});
