import type { QueryClient } from '@tanstack/react-query';
import type { IncidentDetail } from './client';

/** Keeps a changed incident under both of its names: URLs have its short number, the API its id. */
export function keepIncident(client: QueryClient, incident: IncidentDetail): void {
  for (const name of [incident.id, String(incident.no)]) {
    client.setQueryData(['incident', name], incident);
  }
}
