import { describe, expect, it } from 'vitest';
import { stale } from './change-feed';

describe('change feed', () => {
  it('names what must be read again', () => {
    expect(stale('judged', { paths: ['a'], more: false })).toEqual([
      ['status'],
      ['paths'],
      ['path', 'a'],
      ['weave', 'a'],
    ]);
    expect(stale('incident', { id: 'x', what: 'note' })).toContainEqual(['incident']);
  });

  it('makes everything stale after missed changes, and every path when not all are named', () => {
    expect(stale('missed', {})).toEqual([[]]);
    expect(stale('judged', { paths: [], more: true })).toContainEqual(['path']);
  });

  it('ignores unknown topics', () => {
    expect(stale('here', {})).toEqual([]);
    expect(stale('something-newer', {})).toEqual([]);
  });
});
