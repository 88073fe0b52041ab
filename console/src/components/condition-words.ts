import type { Route } from '../api/client';

type Conditions = Pick<Route, 'sites' | 'services' | 'tags' | 'owners'>;
type Hours = NonNullable<Route['hours']>;

/** A name with its values, where there are any. */
export function named(one: string, values: (string | number)[] | undefined): string[] {
  return values === undefined || values.length === 0 ? [] : [`${one} ${values.join(', ')}`];
}

/** What routes and rules select, each condition where there is one. */
export function conditionWords(of: Conditions): string[] {
  return [
    ...named('site', of.sites),
    ...named('service', of.services),
    ...named('tag', of.tags),
    ...named('AS', of.owners),
  ];
}

/** Hours of the week. */
export function hoursWords({ days, from, to, zone }: Hours): string {
  const when = days === undefined || days.length === 0 ? 'every day' : days.join(', ');
  return from === to ? `${when}, all day, ${zone}` : `${when} ${from} to ${to} ${zone}`;
}
