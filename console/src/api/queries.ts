import { queryOptions } from '@tanstack/react-query';
import {
  fetchAgents,
  fetchAlarms,
  fetchCheck,
  fetchChecks,
  fetchEvents,
  fetchIncident,
  fetchIncidents,
  fetchDiagnosis,
  fetchPath,
  fetchPathThen,
  fetchPairs,
  fetchPaths,
  fetchSession,
  fetchPathHistory,
  fetchSetAside,
  fetchStorage,
  fetchStatus,
  fetchSuppressions,
  fetchHostFacts,
  fetchWatch,
  fetchWatches,
  fetchWeave,
} from './client';

/** Keys and options of everything the service is asked for. */
export const queries = {
  session: () =>
    queryOptions({ queryKey: ['session'], queryFn: fetchSession, staleTime: Infinity }),
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
  weave: (id: string, spanS: number) =>
    queryOptions({
      queryKey: ['weave', id, spanS],
      queryFn: () => fetchWeave(id, spanS),
      placeholderData: (before) => before,
    }),
  pathHistory: (id: string, rangeS: number) =>
    queryOptions({
      queryKey: ['path-history', id, rangeS],
      queryFn: () => fetchPathHistory(id, rangeS),
      refetchInterval: 60_000,
      placeholderData: (before) => before,
    }),
  alarms: (open: boolean) =>
    queryOptions({
      queryKey: ['alarms', open],
      queryFn: () => fetchAlarms(open),
      placeholderData: (before) => before,
    }),
  incidents: (open: boolean) =>
    queryOptions({
      queryKey: ['incidents', open],
      queryFn: () => fetchIncidents(open),
      placeholderData: (before) => before,
    }),
  pairs: () => queryOptions({ queryKey: ['pairs'], queryFn: fetchPairs, refetchInterval: 5_000 }),
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
  hostFacts: (agent: string) =>
    queryOptions({
      queryKey: ['host-facts', agent],
      queryFn: () => fetchHostFacts(agent),
      refetchInterval: 15_000,
    }),
  checks: (path?: string) =>
    queryOptions({
      queryKey: ['checks', path ?? 'all'],
      queryFn: () => fetchChecks(path),
      refetchInterval: 10_000,
    }),
  check: (id: string) =>
    queryOptions({
      queryKey: ['check', id],
      queryFn: () => fetchCheck(id),
      refetchInterval: 10_000,
    }),
  /** What lasted within so many seconds before now. */
  events: (spanS: number, agent?: string) =>
    queryOptions({
      queryKey: ['events', spanS, agent ?? 'all'],
      queryFn: () => fetchEvents(new Date(Date.now() - spanS * 1000).toISOString(), agent),
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
