import { useMutation, useQueryClient } from '@tanstack/react-query';
import { Button, Input, Popconfirm } from 'antd';
import { useState } from 'react';
import { closeIncident, reopenIncident } from '../../api/client';
import { keepIncident } from '../../api/keep-incident';
import type { IncidentDetail } from '../../api/client';
import { count } from '../../format';
import { Time } from '../../components/time';
import { ErrorAlert } from '../../components/error-alert';

/** Closes an incident with some words, or opens it again. */
export function Closing({ incident }: { incident: IncidentDetail }) {
  const client = useQueryClient();
  const [words, setWords] = useState('');
  const change = useMutation({
    mutationFn: (close: boolean) =>
      close ? closeIncident(incident.id, words) : reopenIncident(incident.id),
    onSuccess: (changed) => keepIncident(client, changed),
  });
  const still =
    incident.open_alarms > 0
      ? `${count(incident.open_alarms, 'alarm')} of it still open: closing does not clear any.`
      : 'It can be opened again later.';
  return (
    <div style={{ display: 'flex', gap: 12, alignItems: 'center', margin: '12px 0' }}>
      {incident.closed_at == null ? (
        <Popconfirm
          title="Close this incident?"
          description={
            <div style={{ width: 320 }}>
              <p className="said">{still}</p>
              <Input.TextArea
                aria-label="Cause and what was done"
                placeholder="Cause, and what was done"
                value={words}
                rows={3}
                onChange={(event) => setWords(event.target.value)}
              />
            </div>
          }
          okText="Close it"
          cancelText="Leave it open"
          onConfirm={() => change.mutate(true)}
        >
          <Button loading={change.isPending}>Close…</Button>
        </Popconfirm>
      ) : (
        <>
          <span>
            Closed <Time at={incident.closed_at} />
          </span>
          <Button loading={change.isPending} onClick={() => change.mutate(false)}>
            Open it again
          </Button>
        </>
      )}
      {change.error && <ErrorAlert error={change.error} />}
    </div>
  );
}
