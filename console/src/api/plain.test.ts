import { expect, test } from 'vitest';
import { plain } from './plain';

test('hidden characters become visible wherever they stand, and line ends stay', () => {
  const value = { name: 'pay\u202eevil', lines: ['a\nb\u001b[2J', null, 3], at: { on: true } };
  expect(plain(value)).toEqual({
    name: 'pay\\u{202e}evil',
    lines: ['a\nb\\u{1b}[2J', null, 3],
    at: { on: true },
  });
});
