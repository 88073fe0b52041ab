import { describe, expect, it } from 'vitest';
import {
  countWords,
  limitWords,
  movedBy,
  quietWords,
  selectionWords,
  severityWords,
} from './words';

const voice = {
  name: 'Voice',
  services: ['Bridge Voice'],
  owners: [64500],
  limits: { loss_ratio: 0.005, hold_windows: 6 },
  severity: {
    least: [{ severity: 'major' as const }, { severity: 'critical' as const, sites: 3, paths: 1 }],
    most: null,
  },
  quiet: {
    hours: { from: '22:00', to: '06:00', zone: 'Europe/London' },
    most: 'minor' as const,
  },
};

describe('words of rules', () => {
  it('say what a rule selects and has', () => {
    expect(selectionWords(voice)).toBe('service Bridge Voice; AS 64500');
    expect(limitWords(voice.limits)).toBe('0.5 % loss, held over 60 s');
    expect(severityWords(voice)).toBe('at least major, at least critical from 3 sites and 1 path');
    expect(quietWords(voice)).toBe('every day 22:00 to 06:00 Europe/London, up to minor');
  });

  it('say that hours last all day', () => {
    const hours = { from: '00:00', to: '00:00', zone: 'UTC', days: ['sunday' as const] };
    expect(quietWords({ name: 'Quiet', quiet: { hours } })).toBe('sunday, all day, UTC');
  });

  it('leave out what a rule does not have', () => {
    const bare = { name: 'Bare' };
    expect(selectionWords(bare)).toBe('all paths');
    expect([limitWords({}), severityWords(bare), quietWords(bare)]).toEqual([null, null, null]);
  });

  it('count the alarms of a trial', () => {
    const counts = { alarms: 14, critical: 3, major: 0, minor: 11, quiet: 2 };
    expect(countWords(counts)).toBe('14 alarms (3 critical, 11 minor, 2 in quiet hours)');
    expect(countWords({ alarms: 0, critical: 0, major: 0, minor: 0, quiet: 0 })).toBe('no alarm');
  });
});

describe('the order of rules', () => {
  it('changes by one step and not beyond the ends', () => {
    const rules = ['a', 'b', 'c'].map((name) => ({ name }));
    const names = (of: { name: string }[]) => of.map((rule) => rule.name).join('');
    expect(names(movedBy(rules, 1, -1))).toBe('bac');
    expect(names(movedBy(rules, 1, 1))).toBe('acb');
    expect(names(movedBy(rules, 0, -1))).toBe('abc');
    expect(names(movedBy(rules, 2, 1))).toBe('abc');
  });
});
