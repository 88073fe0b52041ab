import { describe, expect, it } from 'vitest';
import { leadsTo, savedQuery } from './filter';

describe('a saved view', () => {
  it('keeps the filter of an address, not the selected alarm', () => {
    const search = new URLSearchParams('show=mine&severity=critical&alarm=12&view=Night');
    expect(savedQuery(search)).toBe('show=mine&severity=critical');
  });

  it('leads to an address that names it and has its filter', () => {
    const address = leadsTo({ name: 'Night & day', query: 'show=mine&class=path' });
    expect(address.toString()).toBe('show=mine&class=path&view=Night+%26+day');
    expect(savedQuery(address)).toBe('show=mine&class=path');
  });
});
