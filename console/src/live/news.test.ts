import { describe, expect, it } from 'vitest';
import { stale } from './news';

describe('news', () => {
  it('names what has to be looked at again', () => {
    expect(stale('judged', { paths: ['a'], more: false })).toEqual([
      ['state'],
      ['paths'],
      ['path', 'a'],
      ['weave', 'a'],
    ]);
    expect(stale('incident', { id: 'x', what: 'note' })).toContainEqual(['incident', 'x']);
  });

  it('makes everything stale when some news was missed, and every path when not all are named', () => {
    expect(stale('missed', {})).toEqual([[]]);
    expect(stale('judged', { paths: [], more: true })).toContainEqual(['path']);
  });

  it('does nothing about news it does not know', () => {
    expect(stale('here', {})).toEqual([]);
    expect(stale('something-newer', {})).toEqual([]);
  });
});
