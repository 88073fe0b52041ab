import { describe, expect, it } from 'vitest';
import { addressOf, deliveryWords, isShown, outcomeWords, routeWords } from './words';

const made = { id: 'x', made_at: '2026-03-02T10:00:00Z', made_by: 'ailsa', enabled: true };

describe('words of notices', () => {
  it('say what became of a delivery', () => {
    const delivery = {
      receiver: 'Desk',
      channel: 'mail',
      attempts: 3,
      reason: 'greylisted',
      state: 'waiting' as const,
    };
    expect(deliveryWords(delivery)).toBe('Desk by mail: waiting, 3 attempts');
    expect(outcomeWords(delivery)).toBe('. greylisted');
    const answered = { ...delivery, attempts: 1, reason: null, state: 'sent' as const };
    expect(deliveryWords(answered)).toBe('Desk by mail: sent');
    expect(outcomeWords(answered)).toBe('');
    expect(outcomeWords({ ...answered, answer: '200 OK' })).toBe('. Answer: 200 OK');
  });

  it('say where a receiver is', () => {
    const mail = {
      ...made,
      name: 'Duty',
      channel: 'mail' as const,
      to: ['a@b.example', 'c@b.example'],
    };
    expect(addressOf(mail)).toBe('a@b.example, c@b.example');
    const collector = { host: 'log.example', port: 514, transport: 'udp' as const };
    const syslog = { ...made, name: 'Log', channel: 'syslog' as const, ...collector };
    expect(addressOf(syslog)).toBe('log.example:514 by UDP');
  });

  it('say which notices a route takes', () => {
    expect(routeWords({})).toBe('every notice');
    expect(routeWords({ severity: 'major', sites: [], tags: ['harbour'], owners: [64500] })).toBe(
      'severity major or higher; tag harbour; AS 64500',
    );
    const hours = { from: '08:00', to: '17:00', zone: 'Europe/London', days: [] };
    expect(routeWords({ hours })).toBe('every day 08:00 to 17:00 Europe/London');
  });

  it('know the views of the URL', () => {
    expect(isShown('failed')).toBe(true);
    expect(isShown('painted')).toBe(false);
    expect(isShown(null)).toBe(false);
  });
});
