import { describe, expect, it } from 'vitest';
import { hold, moved } from './queue';

describe('a list that is being read', () => {
  it('keeps its order and lets what comes wait', () => {
    const shown = [
      { id: 'b', loss: 1 },
      { id: 'a', loss: 2 },
    ];
    const held = hold(shown, [
      { id: 'c', loss: 9 },
      { id: 'a', loss: 3 },
      { id: 'b', loss: 1 },
    ]);
    expect(held.items).toEqual([
      { id: 'b', loss: 1 },
      { id: 'a', loss: 3 },
    ]);
    expect(held.waiting).toBe(1);
  });

  it('keeps what is gone, and takes all where nothing was shown', () => {
    expect(hold([{ id: 'a' }], []).items).toEqual([{ id: 'a' }]);
    expect(hold([], [{ id: 'a' }])).toEqual({ items: [{ id: 'a' }], waiting: 0 });
  });

  it('moves the selection within the list', () => {
    expect(moved(['a', 'b'], null, 1)).toBe('a');
    expect(moved(['a', 'b'], 'a', 1)).toBe('b');
    expect(moved(['a', 'b'], 'b', 1)).toBe('b');
    expect(moved(['a', 'b'], 'a', -1)).toBe('a');
    expect(moved([], 'a', 1)).toBeNull();
  });
});
