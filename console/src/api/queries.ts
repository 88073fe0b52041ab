import { queryOptions } from '@tanstack/react-query';
import { fetchPath, fetchPaths, fetchState } from './client';

/** Keys and options of everything the service is asked for. */
export const queries = {
  state: () => queryOptions({ queryKey: ['state'], queryFn: fetchState }),
  paths: () => queryOptions({ queryKey: ['paths'], queryFn: fetchPaths }),
  path: (id: string) => queryOptions({ queryKey: ['path', id], queryFn: () => fetchPath(id) }),
};
