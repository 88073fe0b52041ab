import { describe, expect, it } from 'vitest';
import type { Pair, Direction } from '../../api/client';
import { lanesOf, headlineOf } from './lanes';

function direction(arrived: number, lost: number): Direction {
  return {
    arrived,
    lost,
    loss_ratio: arrived + lost === 0 ? null : lost / (arrived + lost),
    duplicated: 0,
    reordered: 0,
    congested: 0,
  } as Direction;
}

function pair(no: number, near: string, far: string, forward: Direction, back: Direction): Pair {
  return { id: `${no}`, no, near, far, sent: 100, forward, return: back } as Pair;
}

const good = pair(1, 'Eskerry', 'Dunverra', direction(100, 0), direction(100, 0));
const bad = pair(2, 'Eskerry', 'Carrock Pier', direction(100, 0), direction(96, 4));
const dark = pair(3, 'Dunverra', 'Ferrish Holm', direction(0, 0), direction(0, 0));

describe('two-way measurements', () => {
  it('puts the pair that loses most first and keeps its directions together', () => {
    expect(
      lanesOf([good, bad]).map(({ pair: { no }, direction: which }) => `${no} ${which}`),
    ).toEqual(['2 forward', '2 return', '1 forward', '1 return']);
  });

  it('says which direction loses, and who cannot be reached', () => {
    expect(headlineOf([good, bad])).toBe('4.0 % loss from Carrock Pier to Eskerry.');
    expect(headlineOf([good])).toBe('No notable loss on 1 pair, in either direction.');
    expect(headlineOf([good, dark])).toContain('Dunverra and Ferrish Holm cannot reach each other');
  });

  it('says nothing of a few packets', () => {
    const few = pair(4, 'Eskerry', 'Dunverra', direction(5, 1), direction(5, 0));
    expect(headlineOf([few])).toContain('No notable loss');
  });
});
