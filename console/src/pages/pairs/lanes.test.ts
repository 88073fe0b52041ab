import { describe, expect, it } from 'vitest';
import type { Pair, Direction } from '../../api/client';
import { lanesOf, sentenceOf } from './lanes';

function way(arrived: number, lost: number): Direction {
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
  return { id: `${no}`, no, near, far, sent: 100, forward, back } as Pair;
}

const good = pair(1, 'Eskerry', 'Dunverra', way(100, 0), way(100, 0));
const bad = pair(2, 'Eskerry', 'Carrock Pier', way(100, 0), way(96, 4));
const dark = pair(3, 'Dunverra', 'Ferrish Holm', way(0, 0), way(0, 0));

describe('two-way measurements', () => {
  it('puts the pair that loses most first and keeps its directions together', () => {
    expect(lanesOf([good, bad]).map(({ pair: { no }, way: which }) => `${no} ${which}`)).toEqual([
      '2 forward',
      '2 back',
      '1 forward',
      '1 back',
    ]);
  });

  it('says which direction loses, and who cannot be reached', () => {
    expect(sentenceOf([good, bad])).toBe('From Carrock Pier to Eskerry 4.0 % of packets are lost.');
    expect(sentenceOf([good])).toBe('No notable loss on 1 pair, in either direction.');
    expect(sentenceOf([good, dark])).toContain('Dunverra and Ferrish Holm cannot reach each other');
  });

  it('says nothing of a few packets', () => {
    const few = pair(4, 'Eskerry', 'Dunverra', way(5, 1), way(5, 0));
    expect(sentenceOf([few])).toContain('No notable loss');
  });
});
