import { queryOptions } from '@tanstack/react-query';
import {
  fetchAlarms,
  fetchIncident,
  fetchIncidents,
  fetchPath,
  fetchPathThen,
  fetchPaths,
  fetchSession,
  fetchState,
  fetchWeave,
} from './client';

/** Keys and options of everything the service is asked for. */
export const queries = {
  session: () =>
    queryOptions({ queryKey: ['session'], queryFn: fetchSession, staleTime: Infinity }),
  state: () => queryOptions({ queryKey: ['state'], queryFn: fetchState }),
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
  incident: (id: string) =>
    queryOptions({ queryKey: ['incident', id], queryFn: () => fetchIncident(id) }),
};
