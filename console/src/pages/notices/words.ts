import type { Delivery, Receiver, Route } from '../../api/client';
import { conditionWords, hoursWords, named } from '../../components/condition-words';
import { count } from '../../format';

/** Deliveries that the page can show. */
export const SHOWN = ['all', 'waiting', 'failed'] as const;
export type Shown = (typeof SHOWN)[number];

export function isShown(text: string | null): text is Shown {
  return SHOWN.some((one) => one === text);
}

const STATES: Record<Delivery['state'], string> = {
  waiting: 'waiting',
  sent: 'sent',
  failed: 'failed',
  skipped: 'not sent',
  unknown: 'in a state that this version cannot show',
};

/** What became of a delivery. */
export function deliveryWords({ receiver, channel, state, attempts }: Delivery): string {
  const tried = attempts > 1 ? `, ${count(attempts, 'attempt')}` : '';
  return `${receiver} by ${channel}: ${STATES[state]}${tried}`;
}

/** Why a delivery failed, or what the receiver answered. */
export function outcomeWords({ reason, answer }: Delivery): string {
  const because = reason == null ? '' : `. ${reason}`;
  return answer == null ? because : `${because}. Answer: ${answer}`;
}

/** Where notices of a receiver go. */
export function addressOf(receiver: Receiver): string {
  switch (receiver.channel) {
    case 'mail':
      return receiver.to.join(', ');
    case 'syslog':
      return `${receiver.host}:${receiver.port} by ${receiver.transport.toUpperCase()}`;
    case 'action':
      return `${receiver.url}, ${receiver.per_hour} an hour at most`;
    case 'webhook':
      return receiver.url;
  }
}

/** The notices that a route takes. */
export function routeWords(route: Route): string {
  const parts = [
    ...(route.severity == null ? [] : [`severity ${route.severity} or higher`]),
    ...named('kind', route.kinds),
    ...conditionWords(route),
  ];
  if (route.hours != null) parts.push(hoursWords(route.hours));
  return parts.length === 0 ? 'every notice' : parts.join('; ');
}
