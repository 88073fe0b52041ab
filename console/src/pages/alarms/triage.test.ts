import { describe, expect, it } from 'vitest';
import type { Alarm } from '../../api/client';
import { VIEWS, narrowedBy, queryOf, viewOf } from './filter';
import { chosen, offers, remaining, summary } from './triage';

function alarm(id: string, handling: Partial<Alarm['handling']>): Alarm {
  return { id, handling: { state: 'none', ...handling } } as Alarm;
}

describe('what is done with alarms', () => {
  it('is taken back by the same key where all of them are so', () => {
    const acknowledged = alarm('a', { state: 'ack', acknowledged_by: 'bran', assignee: 'ailsa' });
    const action = (alarms: Alarm[], key: string) =>
      offers(alarms, 'ailsa').find((offer) => offer.key === key);
    expect(action([acknowledged], 'y')?.action).toBe('unacknowledge');
    expect(action([acknowledged, alarm('b', {})], 'y')?.action).toBe('acknowledge');
    expect(action([acknowledged], 'm')).toMatchObject({ action: 'assign', to: null });
    expect(action([alarm('b', {})], 'm')).toMatchObject({ action: 'assign', to: 'ailsa' });
    expect(action([alarm('c', { state: 'closed' })], 'c')?.action).toBe('reopen');
    expect(action([alarm('c', {})], 'c')?.action).toBeNull();
    expect(action([alarm('d', { state: 'shelved' })], 's')?.action).toBe('unshelve');
    expect(new Set(offers([], 'ailsa').map((offer) => offer.key)).size).toBe(6);
  });

  it('is done with the marked alarms, or else with the selected one', () => {
    const items = [alarm('a', {}), alarm('b', {}), alarm('c', {})];
    expect(chosen(items, new Set(['c', 'a']), items[1])).toEqual([items[0], items[2]]);
    expect(chosen(items, new Set(['gone']), items[1])).toEqual([items[1]]);
    expect(chosen([], new Set(), undefined)).toEqual([]);
  });

  it('is said with what was refused', () => {
    const outcomes = (['done', 'done', 'unchanged', 'refused'] as const).map((outcome) => ({
      alarm: '1',
      outcome,
      detail: outcome === 'refused' ? 'closed' : null,
    }));
    expect(summary({ items: outcomes }, 'acknowledge')).toBe(
      '2 alarms acknowledged; 1 alarm unchanged; 1 alarm refused: closed',
    );
  });

  it('removes from the list what has left the view', () => {
    const [a, b, c] = [alarm('a', {}), alarm('b', {}), alarm('c', {})];
    expect(remaining([a, b, c], new Set(['a', 'b']), [b])).toEqual([b, c]);
  });
});

describe('a view of the queue', () => {
  it('is in the URL and asks the service for its alarms', () => {
    const range = { kind: 'last', seconds: 3600 } as const;
    const of = (search: string) => {
      const params = new URLSearchParams(search);
      return queryOf(viewOf(params), narrowedBy(params), 'ailsa', range, 7_200_000);
    };
    expect(of('')).toEqual({ open: true, operator_state: 'none,ack' });
    expect(of('show=open')).toEqual(of(''));
    expect(of('show=mine&severity=major')).toMatchObject({ assignee: 'ailsa', severity: 'major' });
    expect(of('show=unassigned')).toMatchObject({ unassigned: true });
    expect(of('show=shelved')).toEqual({ open: true, operator_state: 'shelved' });
    expect(of('show=closed')).toMatchObject({ operator_state: 'closed' });
    expect(of('show=all')).not.toHaveProperty('open');
    expect(of('severity=painted')).not.toHaveProperty('severity');
    expect(of('class=service')).toEqual({ ...of(''), class: 'service' });
    expect(of('class=painted')).toEqual(of(''));
    expect(VIEWS.map((view) => of(`show=${view}`)).length).toBe(6);
  });
});
