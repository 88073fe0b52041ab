import { Link } from 'react-router';
import type { PathItem } from '../../api/client';
import { departureInk, departures, departureWords } from '../../theme';
import { boardOf, keyOf } from './board-cells';
import type { BoardCell } from './board-cells';

function Cell({ cell }: { cell: BoardCell | undefined }) {
  if (!cell) return <span className="quiet">–</span>;
  const step = cell.departure;
  const style =
    step === null ? undefined : { background: departures[step], color: departureInk[step] };
  const word = step === null ? 'usual not known yet' : departureWords[step];
  return (
    <Link
      to={`/paths/${cell.path.id}`}
      title={`${cell.title}; ${word}`}
      className="numeric"
      style={step === null ? { color: 'var(--text)' } : style}
    >
      {cell.text}
      {step !== null && step > 0 && <span className="hidden">, {word}</span>}
    </Link>
  );
}

/** Each cell is the worst path from a site to a service, coloured by departure from its usual. */
export function Board({ paths }: { paths: PathItem[] }) {
  if (paths.length === 0) {
    return (
      <p className="quiet">
        No paths yet: they are made when an agent joins and targets are configured.
      </p>
    );
  }
  const { sites, services, cells } = boardOf(paths);
  return (
    <>
      <table className="board numbers">
        <caption className="hidden">The worst path from each site to each service</caption>
        <thead>
          <tr>
            <th scope="col" style={{ width: 190 }}>
              From
            </th>
            {services.map((service) => (
              <th scope="col" key={service}>
                {service}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {sites.map((site) => (
            <tr key={site}>
              <th scope="row">{site}</th>
              {services.map((service) => (
                <td key={service}>
                  <Cell cell={cells.get(keyOf(site, service))} />
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
      <DepartureScale note="Each cell: the worst path, its round-trip delay or loss in the last minute" />
    </>
  );
}

/** The scale of departure from a path's own usual. */
export function DepartureScale({ note }: { note: string }) {
  return (
    <p className="quiet" style={{ textAlign: 'right', margin: '6px 0 0' }}>
      {note}; colour is departure from its own usual:
      {departureWords.map((word, step) => (
        <span key={word}>
          <span className="swatch" style={{ background: departures[step] }} />
          {word}
        </span>
      ))}
    </p>
  );
}
