import { useQuery } from '@tanstack/react-query';
import { Skeleton, Space, Typography } from 'antd';
import { queries } from '../../api/queries';
import { count } from '../../format';
import { Time } from '../../time';
import { Trouble } from '../../trouble';
import { AlarmList } from './alarm-list';
import { PathTable } from './path-table';

/** What is wrong, and who must act? */
export function NowPage() {
  const state = useQuery(queries.state());
  const paths = useQuery(queries.paths());
  return (
    <>
      {state.error && <Trouble error={state.error} />}
      {state.data ? (
        <>
          <h1 className="sentence">{state.data.sentence}</h1>
          <Space separator="·" wrap className="quiet">
            <span>{count(state.data.agents, 'agent')}</span>
            <span>{count(state.data.paths, 'path')}</span>
            <span>{count(state.data.rounds, 'round')} recorded</span>
            <span>
              {state.data.owner_map
                ? `owners from ${state.data.owner_map.source}, ${count(state.data.owner_map.entries, 'prefix', 'prefixes')}`
                : 'no owner map imported: itinera owners import FILE'}
            </span>
            <span>
              as of <Time at={state.data.at} />
            </span>
          </Space>
          <AlarmList alarms={state.data.alarms} paths={paths.data ?? []} />
        </>
      ) : (
        !state.error && <Skeleton active />
      )}
      <Typography.Title level={2} style={{ fontSize: 18, marginTop: 28 }}>
        Paths
      </Typography.Title>
      {paths.error && !state.error && <Trouble error={paths.error} />}
      <PathTable paths={paths.data} />
    </>
  );
}
