import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { actOnAlarms } from '../../api/client';
import type { Alarm, AlarmActionRequest } from '../../api/client';
import type { Filled } from './action-dialog';
import type { Doing, Offer } from './triage';
import { summary } from './triage';

/** What is being done with which alarms. */
interface Asking {
  doing: Doing;
  alarms: Alarm[];
}

/** Does things with alarms: at once, or after a dialog. `onDone` gets the ids, and what the list holds now. */
export function useTriage(
  queryKey: readonly unknown[],
  onDone: (acted: Set<string>, answer: Alarm[]) => void,
) {
  const client = useQueryClient();
  const [asking, setAsking] = useState<Asking | null>(null);
  const act = useMutation({
    mutationFn: (request: AlarmActionRequest) => actOnAlarms(request),
    onSuccess: async (_, { alarms }) => {
      await client.invalidateQueries({ queryKey: ['alarms'] });
      onDone(new Set(alarms), client.getQueryData<Alarm[]>(queryKey) ?? []);
    },
  });
  const send = (alarms: Alarm[], filled: Filled) => {
    act.mutate({ ...filled, alarms: alarms.map((alarm) => alarm.id) });
  };
  return {
    asking,
    error: act.error,
    said: act.data === undefined ? '' : summary(act.data, act.variables?.action),
    offered: (offer: Offer, alarms: Alarm[]) => {
      if (alarms.length === 0) return;
      if (offer.action === null) setAsking({ doing: offer.doing, alarms });
      else send(alarms, { action: offer.action, to: offer.to ?? null, text: '' });
    },
    answered: (filled: Filled) => {
      if (asking !== null) send(asking.alarms, filled);
      setAsking(null);
    },
    cancelled: () => setAsking(null),
  };
}
