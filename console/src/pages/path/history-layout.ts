import type { HistoryPoint, RouteHistory } from '../../api/client';

/** Loss over all points: probes without an answer and probes sent. */
export function lossOf(points: HistoryPoint[]): { sent: number; lost: number } {
  const sum = (field: 'sent' | 'lost') => points.reduce((total, point) => total + point[field], 0);
  return { sent: sum('sent'), lost: sum('lost') };
}

/** A hop in which a route differs from the first one. */
export interface DifferingHop {
  hop: number;
  /** Absent where none answers; undefined where the route has ended before. */
  address: string | null | undefined;
}

/** The hops in which a route differs from another. */
export function differingHops(
  route: Pick<RouteHistory, 'addresses'>,
  from: Pick<RouteHistory, 'addresses'>,
): DifferingHop[] {
  const length = Math.max(route.addresses.length, from.addresses.length);
  const hops = Array.from({ length }, (_, index) => index);
  return hops
    .filter((index) => route.addresses[index] !== from.addresses[index])
    .map((index) => ({ hop: index + 1, address: route.addresses[index] }));
}
