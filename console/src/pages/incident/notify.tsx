import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Button, Select, Space } from 'antd';
import { useState } from 'react';
import { Link } from 'react-router';
import { requestNotice } from '../../api/client';
import type { IncidentDetail } from '../../api/client';
import { queries } from '../../api/queries';
import { ErrorAlert } from '../../components/error-alert';

/** Sends a notice about an incident to a receiver by hand; nothing while there is no receiver. */
export function Notify({ incident }: { incident: IncidentDetail }) {
  const client = useQueryClient();
  const session = useQuery(queries.session());
  const { data: receivers = [] } = useQuery(queries.receivers());
  const [chosen, setChosen] = useState<string | null>(null);
  const send = useMutation({
    mutationFn: (receiver: string) => requestNotice(incident.id, receiver),
    onSettled: () => client.invalidateQueries({ queryKey: ['notices'] }),
  });
  if (receivers.length === 0 || session.data?.role === 'viewer') return null;
  const receiver = receivers.find((one) => one.id === chosen);
  return (
    <>
      <Space wrap>
        <Select
          aria-label="Receiver of a notice"
          placeholder="Receiver"
          value={chosen}
          onChange={(id: string) => {
            send.reset();
            setChosen(id);
          }}
          options={receivers.map((one) => ({
            value: one.id,
            label: `${one.name} (${one.channel})`,
          }))}
          style={{ minWidth: 240 }}
        />
        <Button
          disabled={receiver === undefined}
          loading={send.isPending}
          onClick={() => receiver && send.mutate(receiver.id)}
        >
          {receiver?.channel === 'action' ? 'Request action' : 'Send notice'}
        </Button>
        <span role="status" className="quiet">
          {send.isSuccess && (
            <>
              Being sent. <Link to="/notices">Notices</Link> shows the result.
            </>
          )}
        </span>
      </Space>
      {send.error && <ErrorAlert error={send.error} />}
    </>
  );
}
