import { expect, it } from 'vitest';
import { explainedWords, plannedWords } from './planned-words';

it('says what is done, by which owner or at which site, and what it explains', () => {
  const work = {
    calendar: 'Stannoch',
    summary: 'Power work',
    starts_at: '2026-03-02T10:00:00Z',
    ends_at: '2026-03-02T12:00:00Z',
    sites: ['Eskerry'],
    owners: [64510],
    explained: [],
  };
  expect(plannedWords(work)).toBe('Power work (Eskerry, AS 64510)');
  expect(explainedWords({ ...work, explained: [7] })).toBe('alarm 7');
  expect(explainedWords({ ...work, explained: [7, 9] })).toBe('alarms 7, 9');
});
