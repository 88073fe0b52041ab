import type { CheckDetail, Resource } from '../../api/client';
import { stepName } from '../../format';

/** A bar of the waterfall: shares of the whole time, from 0 to 1. */
export interface Bar {
  name: string;
  /** Times of the request, of the first byte and of the end. */
  begun: number;
  first: number;
  done: number;
  failed: string | null;
  slowest: boolean;
  tookUs: number;
  sizeBytes: number;
}

/** What a page refers to along the time of the page. */
export function barsOf(resources: Resource[]): { bars: Bar[]; wholeUs: number } {
  const ends = resources.map((one) => one.begun_us + one.took_us);
  const wholeUs = Math.max(1, ...ends);
  const slowest = Math.max(0, ...resources.map((one) => one.took_us));
  const bars = resources.map((one) => ({
    name: one.path,
    begun: one.begun_us / wholeUs,
    first: (one.begun_us + (one.first_byte_us ?? one.took_us)) / wholeUs,
    done: (one.begun_us + one.took_us) / wholeUs,
    failed: one.cause?.text ?? null,
    slowest: resources.length > 1 && one.took_us === slowest,
    tookUs: one.took_us,
    sizeBytes: one.size_bytes,
  }));
  return { bars, wholeUs };
}

/** Steps of the newest result along its time: where each begins and ends, from 0 to 1. */
export function stepsOf(check: Pick<CheckDetail, 'phases'>): {
  name: string;
  from: number;
  to: number;
  tookUs: number;
}[] {
  const whole = Math.max(
    1,
    check.phases.reduce((sum, phase) => sum + phase.took_us, 0),
  );
  let at = 0;
  return check.phases.map((phase) => {
    const from = at / whole;
    at += phase.took_us;
    return { name: stepName(phase.step), from, to: at / whole, tookUs: phase.took_us };
  });
}
