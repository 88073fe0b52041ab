import { queryOptions } from '@tanstack/react-query';
import {
  fetchAgents,
  fetchAlarm,
  fetchAlarms,
  fetchAssignees,
  fetchCalendars,
  fetchCheck,
  fetchChecks,
  fetchEvents,
  fetchHandOver,
  fetchIncident,
  fetchIncidents,
  fetchDiagnosis,
  fetchNotices,
  fetchPath,
  fetchPlannedWork,
  fetchPathThen,
  fetchPair,
  fetchPairs,
  fetchPaths,
  fetchReceivers,
  fetchRuleVersions,
  fetchRules,
  fetchSession,
  fetchPairHistory,
  fetchPathHistory,
  fetchSetAside,
  fetchStorage,
  fetchStatus,
  fetchSuppressions,
  fetchHostFacts,
  fetchViews,
  fetchWatch,
  fetchWatches,
  fetchWeave,
} from './client';
import type { AlarmQuery } from './client';
import { written } from '../time/range';
import type { Range } from '../time/range';

/** Up to this range the service judges windows again, second by second. */
const LIVE_S = 6 * 3600;

/** What is summed up by the minute is read again so often; what is over, never. */
function again(range: Range): number | false {
  return range.kind === 'last' ? 60_000 : false;
}

/** Keys and options of everything the service is asked for. */
export const queries = {
  session: () =>
    queryOptions({ queryKey: ['session'], queryFn: fetchSession, staleTime: Infinity }),
  rules: () => queryOptions({ queryKey: ['rules'], queryFn: () => fetchRules() }),
  ruleVersions: () => queryOptions({ queryKey: ['rules', 'versions'], queryFn: fetchRuleVersions }),
  views: () => queryOptions({ queryKey: ['alarm-views'], queryFn: fetchViews }),
  status: () => queryOptions({ queryKey: ['status'], queryFn: fetchStatus }),
  paths: () => queryOptions({ queryKey: ['paths'], queryFn: fetchPaths }),
  path: (id: string) => queryOptions({ queryKey: ['path', id], queryFn: () => fetchPath(id) }),
  /** A moment that has passed does not change any more. */
  pathThen: (id: string, at: string) =>
    queryOptions({
      queryKey: ['path-then', id, at],
      queryFn: () => fetchPathThen(id, at),
      staleTime: Infinity,
    }),
  /** Only a short one up to now is read again with each judgement of the path. */
  weave: (id: string, range: Range) => {
    const live = range.kind === 'last' && range.seconds <= LIVE_S;
    return queryOptions({
      queryKey: [live ? 'weave' : 'weave-long', id, written(range)],
      queryFn: () => fetchWeave(id, range),
      refetchInterval: live ? false : again(range),
      placeholderData: (before) => before,
    });
  },
  pathHistory: (id: string, range: Range) =>
    queryOptions({
      queryKey: ['path-history', id, written(range)],
      queryFn: () => fetchPathHistory(id, range),
      refetchInterval: again(range),
      placeholderData: (before) => before,
    }),
  pairHistory: (id: string, range: Range) =>
    queryOptions({
      queryKey: ['pair-history', id, written(range)],
      queryFn: () => fetchPairHistory(id, range),
      refetchInterval: again(range),
      placeholderData: (before) => before,
    }),
  alarm: (no: number) =>
    queryOptions({
      queryKey: ['alarms', 'one', String(no)],
      queryFn: () => fetchAlarm(String(no)),
    }),
  calendars: () => queryOptions({ queryKey: ['calendars'], queryFn: fetchCalendars }),
  plannedWork: () =>
    queryOptions({
      queryKey: ['planned-work'],
      queryFn: fetchPlannedWork,
      refetchInterval: 60_000,
    }),
  receivers: () => queryOptions({ queryKey: ['receivers'], queryFn: fetchReceivers }),
  notices: (state: 'all' | 'waiting' | 'failed') =>
    queryOptions({
      queryKey: ['notices', state],
      queryFn: () => fetchNotices(state === 'all' ? undefined : state),
    }),
  /** `key` names what `which` asks for at a time (milliseconds since 1970). */
  alarms: (key: string, which: (now: number) => AlarmQuery) =>
    queryOptions({
      queryKey: ['alarms', key],
      queryFn: () => fetchAlarms(which(Date.now())),
      placeholderData: (before) => before,
    }),
  assignees: () => queryOptions({ queryKey: ['assignees'], queryFn: fetchAssignees }),
  incidents: (range: Range | 'open') =>
    queryOptions({
      queryKey: ['incidents', range === 'open' ? range : written(range)],
      queryFn: () => fetchIncidents(range),
      placeholderData: (before) => before,
    }),
  handOver: (range: Range) =>
    queryOptions({
      queryKey: ['hand-over', written(range)],
      queryFn: () => fetchHandOver(range),
      placeholderData: (before) => before,
      refetchInterval: 30_000,
    }),
  pairs: (at?: string) =>
    queryOptions({
      queryKey: ['pairs', at ?? 'now'],
      queryFn: () => fetchPairs(at),
      refetchInterval: at === undefined ? 5_000 : false,
    }),
  pair: (id: string, at?: string) =>
    queryOptions({
      queryKey: ['pair', id, at ?? 'now'],
      queryFn: () => fetchPair(id, at),
      refetchInterval: at === undefined ? 30_000 : false,
    }),
  watches: (path: string) =>
    queryOptions({
      queryKey: ['watches', path],
      queryFn: () => fetchWatches(path),
      refetchInterval: 10_000,
    }),
  watch: (id: string) =>
    queryOptions({
      queryKey: ['watch', id],
      queryFn: () => fetchWatch(id),
      refetchInterval: 5_000,
    }),
  suppressions: () =>
    queryOptions({
      queryKey: ['suppressions'],
      queryFn: fetchSuppressions,
      refetchInterval: 30_000,
    }),
  setAside: () =>
    queryOptions({ queryKey: ['set-aside'], queryFn: fetchSetAside, refetchInterval: 10_000 }),
  storage: () =>
    queryOptions({ queryKey: ['storage'], queryFn: fetchStorage, refetchInterval: 60_000 }),
  agents: () =>
    queryOptions({ queryKey: ['agents'], queryFn: fetchAgents, refetchInterval: 10_000 }),
  hostFacts: (agent: string, at?: string) =>
    queryOptions({
      queryKey: ['host-facts', agent, at ?? 'now'],
      queryFn: () => fetchHostFacts(agent, at),
      refetchInterval: at === undefined ? 15_000 : false,
    }),
  checks: (path?: string) =>
    queryOptions({
      queryKey: ['checks', path ?? 'all'],
      queryFn: () => fetchChecks(path),
      refetchInterval: 10_000,
    }),
  check: (id: string, range: Range) =>
    queryOptions({
      queryKey: ['check', id, written(range)],
      queryFn: () => fetchCheck(id, range),
      placeholderData: (before) => before,
      refetchInterval: 10_000,
    }),
  events: (range: Range, agent?: string) =>
    queryOptions({
      queryKey: ['events', written(range), agent ?? 'all'],
      queryFn: () => fetchEvents(range, agent),
      placeholderData: (before) => before,
      refetchInterval: 30_000,
    }),
  /** A diagnosis is read again until it is done. */
  diagnosis: (id: string) =>
    queryOptions({
      queryKey: ['diagnosis', id],
      queryFn: () => fetchDiagnosis(id),
      refetchInterval: ({ state: { data } }) =>
        data === undefined || data.state === 'waiting' || data.state === 'running' ? 700 : false,
    }),
  incident: (id: string) =>
    queryOptions({ queryKey: ['incident', id], queryFn: () => fetchIncident(id) }),
};
