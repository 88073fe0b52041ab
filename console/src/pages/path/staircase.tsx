import type { Hop } from '../../api/client';
import { ms, perCent } from '../../format';
import { ink } from '../../theme';
import { HEIGHT, WIDTH, fitted, frame, layOut, stairs } from './staircase-layout';
import type { Column, Layout } from './staircase-layout';

interface Props {
  site: string;
  target: string;
  hops: Hop[];
  /** The same path at an earlier moment, laid under this one. */
  beside?: Hop[] | undefined;
}

const small = { fontSize: 13, fill: ink.quiet } as const;
/** Stays legible where the mark of an onset crosses it. */
const caption = { ...small, paintOrder: 'stroke', stroke: ink.ground, strokeWidth: 4 } as const;

/**
 * Cumulative delay by hop, over what is usual; below it the share of packets that got that far.
 * Carried loss is a falling line; a router's own refusal is a hollow notch that does not lower it.
 */
export function Staircase({ site, target, hops, beside }: Props) {
  const layout = layOut(hops, beside);
  const { columns } = layout;
  return (
    <figure style={{ margin: '16px 0 0' }}>
      <svg
        className="staircase"
        viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
        role="img"
        aria-label={`Delay and share of packets by hop from ${site} to ${target}; the table below has the numbers.`}
      >
        <defs>
          <pattern id="silence" width="7" height="7" patternUnits="userSpaceOnUse">
            <path d="M0 7L7 0" stroke={ink.faint} strokeWidth="1.2" />
          </pattern>
        </defs>
        <Owners layout={layout} />
        <Onset layout={layout} />
        <Delay layout={layout} />
        <Share layout={layout} />
        {columns.map((column) => (
          <Label key={column.hop.hop} column={column} />
        ))}
      </svg>
      <Legend hops={hops} columns={columns} />
    </figure>
  );
}

function Owners({ layout }: { layout: Layout }) {
  const { top, bottom } = frame.owners;
  return (
    <g>
      {layout.bands.map((band, index) => (
        <g key={band.left}>
          {index % 2 === 0 && (
            <rect
              x={band.left}
              y={top}
              width={band.right - band.left}
              height={frame.share.bottom - top}
              fill={ink.band}
            />
          )}
          <text
            x={(band.left + band.right) / 2}
            y={bottom - 8}
            textAnchor="middle"
            fontSize="14"
            fill={ink.text}
          >
            {fitted(band.name, band.right - band.left)}
          </text>
        </g>
      ))}
      {layout.columns.map(
        (column) =>
          column.hop.verdict === 'silent' && (
            <rect
              key={column.hop.hop}
              x={column.left}
              y={frame.delay.top}
              width={column.right - column.left}
              height={frame.share.bottom - frame.delay.top}
              fill="url(#silence)"
            />
          ),
      )}
    </g>
  );
}

function Delay({ layout }: { layout: Layout }) {
  const { columns, ticks } = layout;
  return (
    <g>
      <text x={8} y={frame.delay.top - 14} {...caption}>
        Round-trip delay so far, median
      </text>
      {ticks.map((tick) => (
        <g key={tick.ms}>
          <line
            x1={frame.left}
            x2={frame.right}
            y1={tick.y}
            y2={tick.y}
            stroke={ink.faint}
            strokeWidth="0.6"
          />
          <text x={frame.left - 22} y={tick.y + 4} textAnchor="end" {...small}>
            {Number(tick.ms.toPrecision(3))} ms
          </text>
        </g>
      ))}
      {columns.map(
        ({ hop, spread, left, right }) =>
          spread && (
            <rect
              key={hop.hop}
              x={left}
              y={spread[0]}
              width={right - left}
              height={Math.max(spread[1] - spread[0], 1)}
              fill={ink.line}
              opacity="0.16"
            />
          ),
      )}
      <path
        d={stairs(columns, (c) => c.usual)}
        fill="none"
        stroke={ink.quiet}
        strokeWidth="1.4"
        strokeDasharray="2 4"
      />
      <Beside d={stairs(columns, (c) => c.besideLevel)} />
      <path
        d={stairs(columns, (c) => c.level, frame.delay.bottom)}
        fill="none"
        stroke={ink.line}
        strokeWidth="2.4"
        strokeLinejoin="round"
      />
      {columns.map(
        ({ hop, slow, left, right }) =>
          slow !== null && (
            <g key={hop.hop}>
              <circle
                cx={(left + right) / 2}
                cy={slow}
                r="5"
                fill={ink.ground}
                stroke={ink.line}
                strokeWidth="1.6"
              />
              <text x={(left + right) / 2 + 9} y={slow + 4} {...small}>
                answers late: {ms(hop.delay_us)}
              </text>
            </g>
          ),
      )}
      <FarEnd columns={columns} />
    </g>
  );
}

/** The stairs of the moment laid under this one. */
function Beside({ d }: { d: string }) {
  return <path d={d} fill="none" stroke={ink.other} strokeWidth="2" strokeDasharray="9 5" />;
}

/** The delay to the far end, in numbers. */
function FarEnd({ columns }: { columns: Column[] }) {
  const last = columns.at(-1);
  if (last?.level == null) return null;
  return (
    <text
      x={last.right - 4}
      y={last.level - 7}
      textAnchor="end"
      fontSize="14"
      fontWeight="600"
      fill={ink.text}
    >
      {ms(last.hop.delay_us)}
    </text>
  );
}

function Share({ layout }: { layout: Layout }) {
  const { columns } = layout;
  const { top, bottom } = frame.share;
  return (
    <g>
      <text x={8} y={top - 12} {...caption}>
        Share of packets that got this far
      </text>
      {[0, 0.5, 1].map((ratio) => {
        const y = bottom - ratio * (bottom - top);
        return (
          <g key={ratio}>
            <line
              x1={frame.left}
              x2={frame.right}
              y1={y}
              y2={y}
              stroke={ink.faint}
              strokeWidth="0.6"
            />
            <text x={frame.left - 22} y={y + 4} textAnchor="end" {...small}>
              {perCent(ratio)}
            </text>
          </g>
        );
      })}
      {columns.map(
        ({ hop, notch, share, left, right }) =>
          notch !== null &&
          share !== null && (
            <path
              key={hop.hop}
              d={`M${left + 14} ${share}V${notch}H${right - 14}V${share}`}
              fill="none"
              stroke={ink.line}
              strokeWidth="1.2"
            />
          ),
      )}
      <Beside d={stairs(columns, (c) => c.besideShare)} />
      <path
        d={stairs(columns, (c) => c.share, top)}
        fill="none"
        stroke={ink.line}
        strokeWidth="2.4"
      />
    </g>
  );
}

function Label({ column }: { column: Column }) {
  const middle = (column.left + column.right) / 2;
  const { hop } = column;
  return (
    <g>
      <text x={middle} y={frame.labels} textAnchor="middle" fontSize="13" fill={ink.text}>
        {hop.hop}
      </text>
      <text x={middle} y={frame.labels + 16} textAnchor="middle" {...small}>
        {hop.address ?? (hop.verdict === 'silent' ? 'silent' : 'no answer')}
      </text>
      <text x={middle} y={frame.labels + 32} textAnchor="middle" {...small}>
        {hop.address == null ? '' : `${perCent(hop.got_here_ratio)} got here`}
      </text>
    </g>
  );
}

/** The break in the path at the onset of the fault. */
function Onset({ layout }: { layout: Layout }) {
  if (layout.onset === null) return null;
  const x = layout.onset;
  const [top, bottom] = [frame.delay.top - 12, frame.share.bottom + 6];
  const toLeft = x > WIDTH * 0.7;
  return (
    <g>
      {[-3, 3].map((shift) => (
        <path
          key={shift}
          d={`M${x + shift} ${top}l4 ${(bottom - top) / 3}l-8 ${(bottom - top) / 3}l4 ${(bottom - top) / 3}`}
          fill="none"
          stroke={ink.text}
          strokeWidth="1.6"
        />
      ))}
      <text
        x={x + (toLeft ? -10 : 10)}
        // At the first hops the name of the axis stands where it would be.
        y={x < WIDTH * 0.25 ? frame.delay.top + 14 : top - 2}
        textAnchor={toLeft ? 'end' : 'start'}
        fontSize="14"
        fontWeight="600"
        fill={ink.text}
      >
        it begins here
      </text>
    </g>
  );
}

function Legend({ hops, columns }: { hops: Hop[]; columns: Column[] }) {
  const said = ['thick line: carried', 'pale band: half of the answers'];
  if (hops.some((hop) => hop.usual_delay_us != null)) said.push('dotted: usual');
  if (columns.some((column) => column.besideShare !== null)) said.push('dashed: laid under it');
  if (columns.some((column) => column.notch !== null)) {
    said.push('hollow notch: the router answers only that share, traffic passes');
  }
  if (columns.some((column) => column.slow !== null)) said.push('hollow dot: slow to answer only');
  if (hops.some((hop) => hop.verdict === 'silent')) said.push('hatched: silent, traffic passes');
  return (
    <figcaption className="quiet" style={{ textAlign: 'right' }}>
      {said.join(' · ')}
    </figcaption>
  );
}
