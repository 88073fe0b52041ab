import { expect, test } from 'vitest';
import type { Check, HostFacts, Message } from '../../api/client';
import { nearness, services } from './nearness';

const eth0: HostFacts['interfaces'][number] = {
  name: 'eth0',
  medium: 'wired',
  up: true,
  carrier: true,
  mtu_bytes: 1500,
  addresses: ['10.3.0.2/24'],
  speed_mbit_s: 1000,
  duplex: 'full',
  damaged: 0,
};

const hostFacts: HostFacts = {
  site: 'Carrock Pier',
  notes: [],
  host_name: 'agent',
  interfaces: [{ ...eth0, name: 'lo', medium: 'loopback' }, eth0],
  routes: [],
  neighbours: [],
  resolvers: ['198.18.32.53'],
  leases: [],
  announced: [],
  gateways: [
    {
      address: '10.3.0.1',
      interface: 'eth0',
      first_at: '2026-01-31T14:00:00Z',
      last_at: '2026-01-31T15:00:00Z',
      in_use: true,
      delay_us: 900,
    },
  ],
};

const check = (kind: Check['kind'], state: Check['state']): Check => ({
  id: `${kind}-${state}`,
  no: 1,
  site: 'Carrock Pier',
  agent: 'a',
  target: 'Seat Booking',
  service: 'Seat Booking',
  family: 'ipv4',
  kind,
  every_s: 20,
  active: true,
  state,
  failed_at: state === 'broken' ? 'transfer' : null,
  cause: state === 'broken' ? { code: 'unfinished', text: 'the answer did not end in time' } : null,
  phases: [],
});

test('what is near is told in order of distance', () => {
  const places = nearness(hostFacts, [check('name', 'good')]);
  expect(places.map((place) => [place.name, place.found])).toEqual([
    ['Machine and link', 'clean'],
    ['Gateway', 'clean'],
    ['Resolvers', 'clean'],
  ]);
  expect(places[0]?.lines).toEqual(['eth0 at 1000 Mb/s, wired']);
  expect(places[1]?.lines).toEqual(['10.3.0.1, 0.9 ms']);
});

test('what a link carries stands beside its speed', () => {
  const busy = { ...eth0, in_bits_per_s: 250_000, out_bits_per_s: 960e6, utilisation_ratio: 0.96 };
  const line = (one: typeof busy) => nearness({ ...hostFacts, interfaces: [one] }, [])[0]?.lines[1];
  expect(line(busy)).toBe('250.0 kb/s in, 960.0 Mb/s out, 96 % used');
  expect(line({ ...busy, out_bits_per_s: 300_000, utilisation_ratio: 0.0003 })).toBe(
    '250.0 kb/s in, 300.0 kb/s out, under 1 % used',
  );
});

test('damage is noted, no carrier and wrong names are broken', () => {
  const damaged = nearness({ ...hostFacts, interfaces: [{ ...eth0, damaged: 30 }] }, []);
  expect(damaged[0]).toMatchObject({ found: 'noted' });
  expect(damaged[0]?.lines).toContain('30 receive errors');
  const gone = nearness({ ...hostFacts, interfaces: [{ ...eth0, carrier: false }] }, []);
  expect(gone[0]?.found).toBe('broken');
  expect(nearness(hostFacts, [check('name', 'broken')])[2]?.found).toBe('broken');
});

test('services are counted, and names are none', () => {
  const all = [check('web', 'good'), check('mail', 'broken'), check('name', 'broken')];
  expect(services(all)).toMatchObject({
    found: 'broken',
    lines: ['good checks: 1 of 2', 'Seat Booking fails at step transfer'],
  });
  const event: Message = { code: 'not-measured', headline: 'Slow', detail: [] };
  const slow = { ...check('web', 'good'), event };
  expect(services([slow])).toMatchObject({
    found: 'noted',
    lines: ['good checks: 1 of 1', 'Seat Booking is not as usual'],
  });
  expect(services([check('web', 'unknown')]).found).toBe('unknown');
});
