import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Button, Table } from 'antd';
import type { SetAside } from '../../api/client';
import { retryCommit } from '../../api/client';
import { queries } from '../../api/queries';
import { count } from '../../format';
import { Time } from '../../components/time';
import { ErrorAlert } from '../../components/error-alert';

/** Commits that could not be judged; nothing while there are none. */
export function SetAsideCommits() {
  const client = useQueryClient();
  const { data } = useQuery(queries.setAside());
  const retry = useMutation({
    mutationFn: retryCommit,
    onSettled: () => client.invalidateQueries({ queryKey: ['set-aside'] }),
  });
  if (!data || data.length === 0) return null;
  const rounds = data.reduce((sum, one) => sum + one.rounds, 0);
  return (
    <section aria-label="Commits that could not be judged">
      <h2 className="section">Commits that could not be judged</h2>
      <p>
        Left out of judgement: {count(data.length, 'commit')}, {count(rounds, 'round')}. Each commit
        failed three times; its rounds are kept.
      </p>
      {retry.error && <ErrorAlert error={retry.error} />}
      <Table<SetAside>
        size="small"
        rowKey="commit_no"
        pagination={false}
        dataSource={data}
        columns={[
          { title: 'Commit', dataIndex: 'commit_no' },
          { title: 'Site', dataIndex: 'site' },
          { title: 'Rounds', dataIndex: 'rounds' },
          { title: 'Set aside', render: (_, one) => <Time at={one.at} /> },
          { title: 'Error', dataIndex: 'error' },
          {
            title: 'Action',
            render: (_, one) => (
              <Button size="small" disabled={one.retry} onClick={() => retry.mutate(one.commit_no)}>
                {one.retry ? 'Judged again soon' : 'Judge again'}
              </Button>
            ),
          },
        ]}
      />
    </section>
  );
}
