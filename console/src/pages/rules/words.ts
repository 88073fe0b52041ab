import type { ConfiguredLimits, Rule, RuleLimits, TrialCounts } from '../../api/client';
import { conditionWords, hoursWords } from '../../components/condition-words';
import { count, limitShare } from '../../format';

/** Seconds of a window, in which limits count. */
export const WINDOW_S = 10;

/** What a rule applies to. */
export function selectionWords(rule: Rule): string {
  const parts = conditionWords(rule);
  return parts.length === 0 ? 'all paths' : parts.join('; ');
}

/** Limits, each where there is one; nothing without any. */
export function limitWords(
  limits: Partial<RuleLimits | ConfiguredLimits> | undefined,
): string | null {
  if (limits === undefined) return null;
  const parts: string[] = [];
  if (limits.loss_ratio != null) parts.push(`${limitShare(limits.loss_ratio)} loss`);
  if (limits.added_delay_ms != null) parts.push(`${limits.added_delay_ms} ms added delay`);
  if (limits.confidence != null) parts.push(`confidence ${limitShare(limits.confidence)}`);
  if (limits.hold_windows != null) parts.push(`held over ${limits.hold_windows * WINDOW_S} s`);
  if (limits.clear_windows != null) parts.push(`clear after ${limits.clear_windows * WINDOW_S} s`);
  return parts.length === 0 ? null : parts.join(', ');
}

/** Severity by impact; nothing where a rule has none. */
export function severityWords({ severity }: Rule): string | null {
  const parts = (severity?.least ?? []).map((step) => {
    const counts = [
      step.sites == null ? null : count(step.sites, 'site'),
      step.services == null ? null : count(step.services, 'service'),
      step.paths == null ? null : count(step.paths, 'path'),
    ].filter((one) => one !== null);
    const from = counts.length === 0 ? '' : ` from ${counts.join(' and ')}`;
    return `at least ${step.severity}${from}`;
  });
  if (severity?.most != null) parts.push(`at most ${severity.most}`);
  return parts.length === 0 ? null : parts.join(', ');
}

/** Quiet hours; nothing where a rule has none. */
export function quietWords({ quiet }: Rule): string | null {
  if (quiet == null) return null;
  return `${hoursWords(quiet.hours)}${quiet.most == null ? '' : `, up to ${quiet.most}`}`;
}

/** Alarms that were counted, with their severities. */
export function countWords(counts: TrialCounts): string {
  if (counts.alarms === 0) return 'no alarm';
  const by = (['critical', 'major', 'minor'] as const)
    .filter((severity) => counts[severity] > 0)
    .map((severity) => `${counts[severity]} ${severity}`);
  if (counts.quiet > 0) by.push(`${counts.quiet} in quiet hours`);
  return `${count(counts.alarms, 'alarm')} (${by.join(', ')})`;
}

/** Rules with one moved by a step; unchanged at the ends. */
export function movedBy(rules: Rule[], at: number, step: number): Rule[] {
  const to = at + step;
  const [one, other] = [rules[at], rules[to]];
  if (one === undefined || other === undefined) return rules;
  return rules.map((rule, index) => (index === at ? other : index === to ? one : rule));
}
