import type { PlannedWork } from '../../api/client';

/** What is done, where or by which owner. */
export function plannedWords({ summary, sites, owners }: PlannedWork): string {
  return `${summary} (${[...sites, ...owners.map((owner) => `AS ${owner}`)].join(', ')})`;
}

/** The alarms that it explains. */
export function explainedWords({ explained }: PlannedWork): string {
  return `${explained.length === 1 ? 'alarm' : 'alarms'} ${explained.join(', ')}`;
}
