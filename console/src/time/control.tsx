import { Button, DatePicker, Modal, Segmented, Select } from 'antd';
import type { Dayjs } from 'dayjs';
import dayjs from 'dayjs';
import utc from 'dayjs/plugin/utc';
import { useState } from 'react';
import { useLocation } from 'react-router';
import { clockTime, dayOf, dayTime, duration } from '../format';
import { LONGEST_S, beside, lengthOf, parsed, timesOf, written } from './range';
import type { Range } from './range';
import { useTimeScope } from './scope';
import type { Zone } from './scope';

dayjs.extend(utc);

const LAST = [
  { value: 'PT15M', label: 'last 15 minutes' },
  { value: 'PT1H', label: 'last hour' },
  { value: 'PT6H', label: 'last 6 hours' },
  { value: 'P1D', label: 'last day' },
  { value: 'P7D', label: 'last 7 days' },
  { value: 'P30D', label: 'last 30 days' },
  { value: 'P400D', label: 'last 400 days' },
];
const OTHER = { value: 'other', label: 'other times…' };

/** Pages that show the present, or a time of their own. */
const WITHOUT = [/^\/$/, /^\/incidents\/./, /^\/diagnoses\//];

function labelOf(range: Range, zone: Zone): string {
  if (range.kind === 'last') {
    const [from, to] = [0, range.seconds * 1000].map((at) => new Date(at).toISOString());
    return `last ${duration(from ?? '', to ?? '')}`;
  }
  const sameDay = dayOf(range.from, zone) === dayOf(range.to, zone);
  const end = sameDay ? clockTime(range.to, zone) : dayTime(range.to, zone);
  return `${dayTime(range.from, zone)} to ${end}`;
}

/** Range of the views, with the ranges beside it, and zone of all times. */
export function TimeControl() {
  const { pathname } = useLocation();
  const { zone, setZone } = useTimeScope();
  return (
    <>
      {!WITHOUT.some((page) => page.test(pathname)) && <RangeControl />}
      <Segmented<Zone>
        size="small"
        aria-label="Time zone"
        value={zone}
        options={[
          { value: 'local', label: 'Local' },
          { value: 'utc', label: 'UTC' },
        ]}
        onChange={setZone}
      />
    </>
  );
}

function RangeControl() {
  const { range, rangeText, setRange, zone } = useTimeScope();
  const [choosing, setChoosing] = useState(false);
  const own = LAST.some(({ value }) => value === rangeText)
    ? []
    : [{ value: rangeText, label: labelOf(range, zone) }];
  const move = (direction: -1 | 1) => setRange(beside(range, direction, Date.now()));
  return (
    <div className="range">
      <Button size="small" type="text" aria-label="Earlier" onClick={() => move(-1)}>
        ‹
      </Button>
      <Select
        size="small"
        aria-label="Range of time"
        value={rangeText}
        popupMatchSelectWidth={false}
        listHeight={320}
        options={[...own, ...LAST, OTHER]}
        onChange={(text: string) => {
          const next = parsed(text);
          if (next === null) setChoosing(true);
          else setRange(next);
        }}
      />
      <Button
        size="small"
        type="text"
        aria-label="Later"
        disabled={range.kind === 'last'}
        onClick={() => move(1)}
      >
        ›
      </Button>
      {choosing && <Choice onClose={() => setChoosing(false)} />}
    </div>
  );
}

/** Begin and end in the zone of the header. */
function Choice({ onClose }: { onClose: () => void }) {
  const { range, setRange, zone } = useTimeScope();
  const [chosen, setChosen] = useState<[Dayjs, Dayjs]>(() => {
    const { from, to } = timesOf(range, Date.now());
    return zone === 'utc' ? [dayjs.utc(from), dayjs.utc(to)] : [dayjs(from), dayjs(to)];
  });
  // The fields as they are read, whatever zone the picker has made the value of.
  const meant = (picked: Dayjs) => {
    const text = picked.format('YYYY-MM-DDTHH:mm:00');
    return (zone === 'utc' ? dayjs.utc(text) : dayjs(text)).toISOString();
  };
  const next: Range = { kind: 'between', from: meant(chosen[0]), to: meant(chosen[1]) };
  const isRight = parsed(written(next)) !== null;
  return (
    <Modal
      open
      title={`Other times (${zone === 'utc' ? 'UTC' : 'your local time'})`}
      okText="Show"
      okButtonProps={{ disabled: !isRight }}
      onOk={() => {
        setRange(next);
        onClose();
      }}
      onCancel={onClose}
    >
      <DatePicker.RangePicker
        showTime={{ format: 'HH:mm' }}
        format="YYYY-MM-DD HH:mm"
        allowClear={false}
        value={chosen}
        onChange={(picked) => {
          const [begin, end] = picked ?? [];
          if (begin && end) setChosen([begin, end]);
        }}
        style={{ width: '100%' }}
      />
      {!isRight && (
        <p role="alert">
          The end has to be after the begin, and{' '}
          {lengthOf(next) > LONGEST_S ? 'at most 400 days after it' : 'by a minute at least'}.
        </p>
      )}
    </Modal>
  );
}
