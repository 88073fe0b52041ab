import createClient from 'openapi-fetch';
import { lengthOf, timesOf } from '../time/range';
import type { Range } from '../time/range';
import { plain } from './plain';
import type { components, paths } from './schema';

const api = createClient<paths>({ baseUrl: window.location.origin });

export type Status = components['schemas']['StatusView'];
export type PathItem = components['schemas']['PathItem'];
export type PathDetail = components['schemas']['PathDetail'];
export type Hop = components['schemas']['HopItem'];
export type Alarm = components['schemas']['AlarmItem'];
export type AlarmQuery = NonNullable<paths['/api/v1/alarms']['get']['parameters']['query']>;
export type AlarmActionDone = components['schemas']['AlarmActionView'];
export type AlarmActionRequest = components['schemas']['AlarmActionRequest'];
export type AlarmActionOutcomes = components['schemas']['AlarmActionOutcomes'];
export type Incident = components['schemas']['IncidentItem'];
export type IncidentDetail = components['schemas']['IncidentDetail'];
export type ContractHolder = components['schemas']['ContractHolder'];
export type PlannedWork = components['schemas']['PlannedWorkItem'];
export type Calendar = components['schemas']['CalendarItem'];
export type CalendarRequest = Partial<components['schemas']['CalendarRequest']>;
export type SavedCalendar = components['schemas']['SavedCalendar'];
export type HandOver = components['schemas']['HandOver'];
export type IncidentHandOver = components['schemas']['IncidentHandOver'];
export type TimelineEntry = components['schemas']['TimelineEntry'];
export type Evidence = components['schemas']['EvidenceView'];
export type Message = components['schemas']['MessageView'];
export type Note = components['schemas']['NoteView'];
export type Step = components['schemas']['Step'];
export type Cause = components['schemas']['CauseView'];
export type Severity = components['schemas']['Severity'];
export type Part = components['schemas']['Part'];
export type StepResult = components['schemas']['StepResult'];
export type Witness = components['schemas']['WitnessView'];
export type Weave = components['schemas']['Weave'];
export type Check = components['schemas']['CheckItem'];
export type CheckDetail = components['schemas']['CheckDetail'];
export type Resource = components['schemas']['ResourceView'];
export type EventItem = components['schemas']['EventItem'];
export type HostFacts = components['schemas']['HostFactsView'];
export type Agent = components['schemas']['AgentItem'];
export type Diagnosis = components['schemas']['DiagnosisItem'];
export type DiagnosisRequest = components['schemas']['DiagnosisRequest'];
export type Cell = components['schemas']['CellView'];
export type Session = components['schemas']['SessionView'];
export type Pair = components['schemas']['PairItem'];
export type PairDetail = components['schemas']['PairDetail'];
export type PairRoute = components['schemas']['PairRouteView'];
export type PairHop = components['schemas']['PairHop'];
export type Direction = components['schemas']['DirectionView'];
export type Watch = components['schemas']['WatchItem'];
export type NewWatch = components['schemas']['WatchRequest'];
export type WatchChange = components['schemas']['WatchChangeRequest'];
export type Suppression = components['schemas']['SuppressionItem'];
export type ComplaintRequest = components['schemas']['ComplaintRequest'];
export type PathHistory = components['schemas']['PathHistory'];
export type PairHistory = components['schemas']['PairHistory'];
export type PairHistoryPoint = components['schemas']['PairHistoryPoint'];
export type HistoryPoint = components['schemas']['HistoryPoint'];
export type RouteHistory = components['schemas']['RouteHistory'];
export type Storage = components['schemas']['Storage'];
export type SetAside = components['schemas']['SetAsideItem'];
export type Receiver = components['schemas']['ReceiverItem'];
export type ReceiverRequest = components['schemas']['Receiver'];
/** Conditions that are left out hold always. */
export type Route = Partial<components['schemas']['Route']>;
/** What a rule does not have is left out. */
export type RuleLimits = Partial<components['schemas']['RuleLimits']>;
type ImpactStep = Pick<components['schemas']['ImpactStep'], 'severity'> &
  Partial<components['schemas']['ImpactStep']>;
type WholeRule = components['schemas']['Rule'];
export type Rule = Pick<WholeRule, 'name'> &
  Partial<Omit<WholeRule, 'limits' | 'severity' | 'quiet'>> & {
    limits?: RuleLimits;
    severity?: { least?: ImpactStep[]; most?: Severity | null };
    quiet?: { hours: NonNullable<Route['hours']>; most?: Severity | null } | null;
  };
export type ConfiguredLimits = components['schemas']['ConfiguredLimits'];
export type Rules = Omit<components['schemas']['RulesView'], 'rules'> & { rules: Rule[] };
export type RuleVersion = components['schemas']['RuleVersionItem'];
export type Trial = components['schemas']['TrialResult'];
export type TriedAlarm = components['schemas']['TriedAlarmView'];
export type TrialCounts = components['schemas']['TrialCounts'];
export type SavedView = components['schemas']['SavedViewItem'];
export type Notice = components['schemas']['NoticeItem'];
export type Delivery = components['schemas']['DeliveryView'];
type Problem = components['schemas']['Problem'];

/** What the service refused, in its own words, with the request's name for its log. */
export class Refusal extends Error {
  readonly requestId: string | undefined;
  readonly status: number;

  constructor(status: number, problem: Partial<Problem> | undefined) {
    super(plain(problem?.detail) ?? `the service answered ${status}`);
    this.status = status;
    this.requestId = problem?.request_id;
  }
}

/** What every change has to show, so that no page elsewhere can make it. */
let proof: string | null = null;

api.use({
  onRequest({ request }) {
    if (proof !== null && request.method !== 'GET') request.headers.set('x-itinera-proof', proof);
    return request;
  },
});

interface Answer<T> {
  data?: T;
  error?: unknown;
  response: Response;
}

function done({ error, response }: Answer<unknown>): void {
  if (!response.ok) throw new Refusal(response.status, error as Partial<Problem> | undefined);
}

function taken<T>(answer: Answer<T>): T {
  done(answer);
  if (answer.data === undefined) throw new Refusal(answer.response.status, undefined);
  return plain(answer.data);
}

function known(session: Session): Session {
  proof = session.proof ?? null;
  return session;
}

export async function fetchSession(): Promise<Session> {
  return known(taken(await api.GET('/api/v1/session')));
}

export async function signIn(name: string, password: string): Promise<Session> {
  return known(taken(await api.POST('/api/v1/session', { body: { name, password } })));
}

export async function signOut(): Promise<void> {
  done(await api.DELETE('/api/v1/session'));
  proof = null;
}

export async function fetchStatus(): Promise<Status> {
  return taken(await api.GET('/api/v1/status'));
}

interface Page<T> {
  items: T[];
  next?: string | null;
}

/** All pages of a list, up to `most` items. */
async function allPages<T>(
  ask: (query: { limit: number; after?: string }) => Promise<Page<T>>,
  most = Infinity,
): Promise<T[]> {
  const items: T[] = [];
  let after: string | undefined;
  do {
    const page = await ask(after === undefined ? { limit: 500 } : { limit: 500, after });
    items.push(...page.items);
    after = page.next ?? undefined;
  } while (after !== undefined && items.length < most);
  return items;
}

export async function fetchPaths(): Promise<PathItem[]> {
  return allPages(async (query) => taken(await api.GET('/api/v1/paths', { params: { query } })));
}

export async function fetchPath(id: string): Promise<PathDetail> {
  return taken(await api.GET('/api/v1/paths/{id}', { params: { path: { id } } }));
}

export async function fetchPathThen(id: string, at: string): Promise<PathDetail> {
  const params = { path: { id }, query: { at } };
  return taken(await api.GET('/api/v1/paths/{id}/then', { params }));
}

export async function fetchWeave(id: string, range: Range): Promise<Weave> {
  const span_s = Math.round(lengthOf(range));
  const query = range.kind === 'last' ? { span_s } : { span_s, until: range.to };
  return taken(await api.GET('/api/v1/paths/{id}/weave', { params: { path: { id }, query } }));
}

export async function fetchPathHistory(id: string, range: Range): Promise<PathHistory> {
  const query = { ...timesOf(range, Date.now()), by_route: true };
  return taken(await api.GET('/api/v1/paths/{id}/history', { params: { path: { id }, query } }));
}

export async function fetchPairHistory(id: string, range: Range): Promise<PairHistory> {
  const query = timesOf(range, Date.now());
  return taken(await api.GET('/api/v1/pairs/{id}/history', { params: { path: { id }, query } }));
}

/** Lists are shown up to this many; beyond it the reader narrows them. */
const MOST = 1000;

/** Those that are open, or all that were so at some time in a range. */
function within(range: Range | 'open') {
  return range === 'open' ? { open: true } : timesOf(range, Date.now());
}

export async function fetchAlarms(which: AlarmQuery): Promise<Alarm[]> {
  return allPages(
    async (page) =>
      taken(await api.GET('/api/v1/alarms', { params: { query: { ...page, ...which } } })),
    MOST,
  );
}

/** One alarm by its number, with earlier ones at its place. */
export async function fetchAlarm(id: string): Promise<Alarm> {
  return taken(await api.GET('/api/v1/alarms/{id}', { params: { path: { id } } }));
}

/** Does something with alarms; each has an outcome of its own. */
export async function actOnAlarms(body: AlarmActionRequest): Promise<AlarmActionOutcomes> {
  return taken(await api.POST('/api/v1/alarms/actions', { body }));
}

/** The names of users that alarms can be assigned to. */
export async function fetchAssignees(): Promise<string[]> {
  return taken(await api.GET('/api/v1/assignees')).items;
}

export async function fetchIncidents(range: Range | 'open'): Promise<Incident[]> {
  const which = within(range);
  return allPages(
    async (page) =>
      taken(await api.GET('/api/v1/incidents', { params: { query: { ...page, ...which } } })),
    MOST,
  );
}

/** What is open, who has it, and what changed since the begin of a range. */
export async function fetchHandOver(range: Range): Promise<HandOver> {
  const { from: since } = timesOf(range, Date.now());
  return taken(await api.GET('/api/v1/hand-over', { params: { query: { since } } }));
}

export async function fetchIncident(id: string): Promise<IncidentDetail> {
  return taken(await api.GET('/api/v1/incidents/{id}', { params: { path: { id } } }));
}

export async function openIncident(body: ComplaintRequest): Promise<IncidentDetail> {
  return taken(await api.POST('/api/v1/incidents', { body }));
}

export async function addNote(id: string, text: string): Promise<IncidentDetail> {
  const params = { path: { id } };
  return taken(await api.POST('/api/v1/incidents/{id}/notes', { params, body: { text } }));
}

export async function closeIncident(id: string, text: string): Promise<IncidentDetail> {
  const params = { path: { id } };
  return taken(await api.POST('/api/v1/incidents/{id}/close', { params, body: { text } }));
}

export async function reopenIncident(id: string): Promise<IncidentDetail> {
  return taken(await api.POST('/api/v1/incidents/{id}/reopen', { params: { path: { id } } }));
}

/** Pairs with their results of the ten minutes before a time; of the last ten without one. */
export async function fetchPairs(at?: string): Promise<Pair[]> {
  return taken(await api.GET('/api/v1/pairs', { params: { query: { at } } })).items;
}

/** A pair with its routes at a time; with the newest ones without. */
export async function fetchPair(id: string, at?: string): Promise<PairDetail> {
  return taken(await api.GET('/api/v1/pairs/{id}', { params: { path: { id }, query: { at } } }));
}

export async function fetchWatches(path: string): Promise<Watch[]> {
  return allPages(
    async (page) =>
      taken(await api.GET('/api/v1/watches', { params: { query: { ...page, path } } })),
    MOST,
  );
}

export async function fetchWatch(id: string): Promise<Watch> {
  return taken(await api.GET('/api/v1/watches/{id}', { params: { path: { id } } }));
}

export async function startWatch(body: NewWatch): Promise<Watch> {
  return taken(await api.POST('/api/v1/watches', { body }));
}

export async function changeWatch(id: string, body: WatchChange): Promise<Watch> {
  return taken(await api.POST('/api/v1/watches/{id}', { params: { path: { id } }, body }));
}

export async function fetchSuppressions(): Promise<Suppression[]> {
  return taken(await api.GET('/api/v1/suppressions')).items;
}

export async function liftSuppression(id: string): Promise<void> {
  done(await api.DELETE('/api/v1/suppressions/{id}', { params: { path: { id } } }));
}

export async function fetchStorage(): Promise<Storage> {
  return taken(await api.GET('/api/v1/storage'));
}

export async function fetchSetAside(): Promise<SetAside[]> {
  return taken(await api.GET('/api/v1/set-aside')).items;
}

export async function retryCommit(commit: number): Promise<void> {
  done(
    await api.POST('/api/v1/set-aside/{commit_no}/retry', {
      params: { path: { commit_no: commit } },
    }),
  );
}

export async function fetchCalendars(): Promise<Calendar[]> {
  return taken(await api.GET('/api/v1/calendars')).items;
}

/** Saves a calendar under its name: its text, or where it is fetched from. */
export async function saveCalendar(name: string, to: CalendarRequest): Promise<SavedCalendar> {
  const body = { zone: 'UTC', ...to };
  return taken(await api.PUT('/api/v1/calendars/{name}', { params: { path: { name } }, body }));
}

export async function removeCalendar(name: string): Promise<void> {
  done(await api.DELETE('/api/v1/calendars/{name}', { params: { path: { name } } }));
}

/** Planned work from a day ago to 13 days ahead. */
export async function fetchPlannedWork(): Promise<PlannedWork[]> {
  return taken(await api.GET('/api/v1/planned-work')).items;
}

export async function fetchReceivers(): Promise<Receiver[]> {
  return taken(await api.GET('/api/v1/receivers')).items;
}

/** What can be written of a receiver that was read. */
export function writtenReceiver(receiver: Receiver): ReceiverRequest {
  const { id: _id, made_at: _at, made_by: _by, secret: _secret, ...rest } = receiver;
  return rest as ReceiverRequest;
}

export async function addReceiver(body: ReceiverRequest): Promise<Receiver> {
  return taken(await api.POST('/api/v1/receivers', { body }));
}

export async function changeReceiver(id: string, body: ReceiverRequest): Promise<Receiver> {
  return taken(await api.PUT('/api/v1/receivers/{id}', { params: { path: { id } }, body }));
}

export async function removeReceiver(id: string): Promise<void> {
  done(await api.DELETE('/api/v1/receivers/{id}', { params: { path: { id } } }));
}

export async function testReceiver(id: string): Promise<void> {
  done(await api.POST('/api/v1/receivers/{id}/test', { params: { path: { id } } }));
}

/** The rules of alarms, of the newest version or another. */
export async function fetchRules(version?: number): Promise<Rules> {
  return taken(await api.GET('/api/v1/rules', { params: { query: { version } } }));
}

export async function fetchRuleVersions(): Promise<RuleVersion[]> {
  return taken(await api.GET('/api/v1/rules/versions')).items;
}

/** Saves all rules, as a change of a version that must be the newest still. */
export async function saveRules(rules: Rule[], of: number, text: string): Promise<Rules> {
  const params = { header: { 'If-Match': `"${of}"` } };
  const body = { rules: rules as WholeRule[], text };
  return taken(await api.PUT('/api/v1/rules', { params, body }));
}

/** The alarms that rules would have raised. */
export async function tryRules(rules: Rule[], days: number): Promise<Trial> {
  const body = { rules: rules as WholeRule[], days };
  return taken(await api.POST('/api/v1/rules/trial', { body }));
}

/** Views of alarms that the user has saved. */
export async function fetchViews(): Promise<SavedView[]> {
  return taken(await api.GET('/api/v1/alarm-views')).items;
}

export async function saveView({ name, query }: SavedView): Promise<SavedView> {
  const params = { path: { name } };
  return taken(await api.PUT('/api/v1/alarm-views/{name}', { params, body: { query } }));
}

export async function removeView(name: string): Promise<void> {
  done(await api.DELETE('/api/v1/alarm-views/{name}', { params: { path: { name } } }));
}

/** Asks for a notice about an incident, whatever the routes of the receiver. */
export async function requestNotice(id: string, receiver: string): Promise<void> {
  const params = { path: { id } };
  done(await api.POST('/api/v1/incidents/{id}/notices', { params, body: { receiver } }));
}

/** The newest notices: all, or those with a delivery in a state. */
export async function fetchNotices(state?: 'waiting' | 'failed'): Promise<Notice[]> {
  return taken(await api.GET('/api/v1/notices', { params: { query: { state } } })).items;
}

/** Sends failed deliveries again: those of a notice, or all. */
export async function retryDeliveries(notice?: number): Promise<void> {
  done(await api.POST('/api/v1/notices/retry', { body: { notice } }));
}

export async function fetchAgents(): Promise<Agent[]> {
  return taken(await api.GET('/api/v1/agents')).items;
}

/** Host facts as they are, or as they were at a time. */
export async function fetchHostFacts(id: string, at?: string): Promise<HostFacts> {
  const params = { path: { id }, query: { at } };
  return taken(await api.GET('/api/v1/agents/{id}/host-facts', { params }));
}

/** Checks: all, or those with their newest result on a path. */
export async function fetchChecks(path?: string): Promise<Check[]> {
  const query = path === undefined ? {} : { path };
  return taken(await api.GET('/api/v1/checks', { params: { query } })).items;
}

export async function fetchCheck(id: string, range: Range): Promise<CheckDetail> {
  const query = timesOf(range, Date.now());
  return taken(await api.GET('/api/v1/checks/{id}', { params: { path: { id }, query } }));
}

/** Events that lasted at some time in a range: of all agents or of one. */
export async function fetchEvents(range: Range, agent?: string): Promise<EventItem[]> {
  const times = timesOf(range, Date.now());
  const which = agent === undefined ? times : { ...times, agent };
  return allPages(
    async (page) =>
      taken(await api.GET('/api/v1/events', { params: { query: { ...page, ...which } } })),
    MOST,
  );
}

export async function fetchDiagnosis(id: string): Promise<Diagnosis> {
  return taken(await api.GET('/api/v1/diagnoses/{id}', { params: { path: { id } } }));
}

export async function askNow(id: string): Promise<void> {
  done(await api.POST('/api/v1/checks/{id}/now', { params: { path: { id } } }));
}

export async function startDiagnosis(body: DiagnosisRequest): Promise<Diagnosis> {
  return taken(await api.POST('/api/v1/diagnoses', { body }));
}

export async function makeVoice(id: string, forS: number): Promise<void> {
  const params = { path: { id } };
  taken(await api.POST('/api/v1/pairs/{id}/voice', { params, body: { for_s: forS } }));
}
