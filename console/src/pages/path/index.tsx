import { useQuery } from '@tanstack/react-query';
import { Skeleton } from 'antd';
import { useParams } from 'react-router';
import { queries } from '../../api/queries';
import { count } from '../../format';
import { Time } from '../../time';
import { Trouble } from '../../trouble';
import { HopTable } from './hop-table';
import { Staircase } from './staircase';

/** Where on this path, and compared to what? */
export function PathPage() {
  const { id = '' } = useParams();
  const { data: path, error } = useQuery(queries.path(id));
  if (error && !path) return <Trouble error={error} />;
  if (!path) return <Skeleton active paragraph={{ rows: 10 }} />;
  const [first, ...rest] = path.meaning;
  return (
    <>
      {error && <Trouble error={error} />}
      <p className="said quiet">
        {path.site} to {path.target} ({path.address}), {path.method}, {path.size_bytes} octets
        {path.latest && (
          <>
            ; {count(path.latest.rounds, 'round')} in the {path.latest.span_s} s until{' '}
            <Time at={path.latest.until} />
          </>
        )}
      </p>
      <h1 className="sentence">{first}</h1>
      {rest.map((said) => (
        <p className="said" key={said}>
          {said}
        </p>
      ))}
      {path.hops.length > 0 && (
        <>
          <Staircase site={path.site} target={path.target} hops={path.hops} />
          <HopTable hops={path.hops} />
        </>
      )}
    </>
  );
}
