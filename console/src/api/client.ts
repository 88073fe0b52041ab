import createClient from 'openapi-fetch';
import type { components, paths } from './schema';

const api = createClient<paths>({ baseUrl: window.location.origin });

export type State = components['schemas']['StateView'];
export type PathItem = components['schemas']['PathItem'];
export type PathDetail = components['schemas']['PathDetail'];
export type Hop = components['schemas']['HopItem'];
export type Alarm = components['schemas']['AlarmItem'];
export type Place = components['schemas']['PlaceView'];
type Problem = components['schemas']['Problem'];

/** What the service refused, in its own words, with the request's name for its log. */
export class Refusal extends Error {
  readonly requestId: string | undefined;
  readonly status: number;

  constructor(status: number, problem: Partial<Problem> | undefined) {
    super(problem?.detail ?? `the service answered ${status}`);
    this.status = status;
    this.requestId = problem?.request_id;
  }
}

interface Answer<T> {
  data?: T;
  error?: unknown;
  response: Response;
}

function taken<T>({ data, error, response }: Answer<T>): T {
  if (data === undefined) {
    throw new Refusal(response.status, error as Partial<Problem> | undefined);
  }
  return data;
}

export async function fetchState(): Promise<State> {
  return taken(await api.GET('/api/v1/state'));
}

export async function fetchPaths(): Promise<PathItem[]> {
  const items: PathItem[] = [];
  let after: string | undefined;
  do {
    const query = after === undefined ? { limit: 500 } : { limit: 500, after };
    const page = taken(await api.GET('/api/v1/paths', { params: { query } }));
    items.push(...page.items);
    after = page.next ?? undefined;
  } while (after !== undefined);
  return items;
}

export async function fetchPath(id: string): Promise<PathDetail> {
  return taken(await api.GET('/api/v1/paths/{id}', { params: { path: { id } } }));
}
