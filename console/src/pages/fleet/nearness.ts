import type { Check, HostFacts } from '../../api/client';
import type { FoundWord } from '../../components/found';
import { bits, count, ms, stepName, usedShare } from '../../format';

/** One place in order of distance from the machine. */
export interface Near {
  name: string;
  found: FoundWord;
  lines: string[];
}

type Interface = HostFacts['interfaces'][number];

function linkLine(one: Interface): string {
  if (!one.up) return `${one.name} is switched off`;
  if (!one.carrier) return `${one.name} has no carrier`;
  const speed = one.speed_mbit_s == null ? '' : ` at ${one.speed_mbit_s} Mb/s`;
  const half = one.duplex === 'half' ? ', half duplex' : '';
  return `${one.name}${speed}${half}, ${one.medium}`;
}

/** Interfaces that lead anywhere. */
export function outside(hostFacts: HostFacts): Interface[] {
  return hostFacts.interfaces.filter((one) => one.medium !== 'loopback');
}

function ownLink(hostFacts: HostFacts): Near {
  const links = outside(hostFacts);
  const lines = links.flatMap((one) => {
    const said = [linkLine(one)];
    if (one.out_bits_per_s != null || one.in_bits_per_s != null) {
      const share =
        one.utilisation_ratio == null ? '' : `, ${usedShare(one.utilisation_ratio)} used`;
      said.push(`${bits(one.in_bits_per_s)} in, ${bits(one.out_bits_per_s)} out${share}`);
    }
    if ((one.damaged ?? 0) > 0) said.push(count(one.damaged ?? 0, 'receive error'));
    return said;
  });
  const broken = links.length === 0 || links.every((one) => !one.up || !one.carrier);
  const odd = links.some(
    (one) => (one.damaged ?? 0) > 0 || one.duplex === 'half' || one.medium === 'wireless',
  );
  return {
    name: 'Machine and link',
    found: broken ? 'broken' : odd ? 'noted' : 'clean',
    lines: lines.length > 0 ? lines : ['no interface but its loopback'],
  };
}

function gateway(hostFacts: HostFacts): Near {
  const used = hostFacts.gateways.filter((one) => one.in_use);
  const lines = used.map((one) =>
    one.delay_us == null ? `${one.address}, not measured` : `${one.address}, ${ms(one.delay_us)}`,
  );
  const earlier = hostFacts.gateways.length - used.length;
  if (earlier > 0) lines.push(`${count(earlier, 'other')} in the last day`);
  return {
    name: 'Gateway',
    found: used.length === 0 ? 'unknown' : 'clean',
    lines: lines.length > 0 ? lines : ['none'],
  };
}

function resolvers(hostFacts: HostFacts, names: Check[]): Near {
  const bad = names.filter((check) => check.state === 'broken');
  const lines = hostFacts.resolvers.length > 0 ? [...hostFacts.resolvers] : ['none is configured'];
  lines.push(...bad.map((check) => check.cause?.text ?? 'a name does not resolve'));
  const found: FoundWord =
    bad.length > 0 ? 'broken' : hostFacts.resolvers.length === 0 ? 'noted' : 'clean';
  return { name: 'Resolvers', found, lines };
}

/** The parts next to a machine in order of distance, judged by its host facts and name checks. */
export function nearness(hostFacts: HostFacts, checks: Check[]): Near[] {
  const names = checks.filter((check) => check.kind === 'name');
  return [ownLink(hostFacts), gateway(hostFacts), resolvers(hostFacts, names)];
}

/** The checks of all services together. */
export function services(checks: Check[]): Near {
  const asked = checks.filter((check) => check.kind !== 'name' && check.state !== 'unknown');
  const bad = asked.filter((check) => check.state === 'broken');
  // Answers that are not as usual.
  const odd = asked.filter((check) => check.state !== 'broken' && check.event != null);
  const found: FoundWord =
    asked.length === 0 ? 'unknown' : bad.length > 0 ? 'broken' : odd.length > 0 ? 'noted' : 'clean';
  const lines =
    asked.length === 0
      ? ['no checks']
      : [
          `good checks: ${asked.length - bad.length} of ${asked.length}`,
          ...bad.map(
            (one) =>
              `${one.target} fails${one.failed_at == null ? '' : ` at step ${stepName(one.failed_at)}`}`,
          ),
          ...odd.map((one) => `${one.target} is not as usual`),
        ];
  return { name: 'Services', found, lines };
}
