import { Modal, Switch } from 'antd';
import { useEffect, useState } from 'react';
import { useNavigate } from 'react-router';
import { usePreferences } from '../preferences';

const PLACES: Record<string, string> = {
  n: '/',
  a: '/alarms',
  i: '/incidents',
  h: '/hand-over',
  o: '/notices',
  r: '/rules',
  b: '/pairs',
  f: '/fleet',
};

const HELP: [string, string][] = [
  ['n', 'what is wrong now'],
  ['a', 'alarms'],
  ['i', 'incidents'],
  ['h', 'hand-over to the next shift'],
  ['o', 'notices and their receivers'],
  ['r', 'rules of alarms'],
  ['b', 'two-way measurements between sites'],
  ['f', 'agents, host facts and checks'],
  [
    'j or ↓, k or ↑',
    'next and previous alarm; these and the following while the list has the focus',
  ],
  ['Enter', "the selected alarm's incident"],
  ['x, X', 'mark the alarm, or all of them: actions are done with the marked ones'],
  ['y', 'acknowledge, or withdraw the acknowledgement'],
  ['m, g', 'assign to you, or to another user'],
  ['s', 'shelve, or unshelve'],
  ['t', 'attach to an incident'],
  ['c', 'close, or reopen'],
  ['1 to 6', 'the views of the alarms, from “To do” to “All in the range”'],
  ['v', 'save the view under a name, or remove a saved one'],
  ['/', 'choose the view with the arrow keys; Enter leads back to the list'],
  ['?', 'this list'],
];

/** True where letters are for writing. */
export function isWriting(target: EventTarget | null): boolean {
  return (
    target instanceof HTMLElement &&
    (target.isContentEditable || ['INPUT', 'TEXTAREA', 'SELECT'].includes(target.tagName))
  );
}

/** Pages by one key each, and the list of all keys. */
export function Keys() {
  const navigate = useNavigate();
  const { shortcuts, setShortcuts } = usePreferences();
  const [help, setHelp] = useState(false);
  useEffect(() => {
    const press = (event: KeyboardEvent) => {
      if (isWriting(event.target) || event.ctrlKey || event.metaKey || event.altKey) return;
      if (event.key === '?') setHelp(true);
      const place = shortcuts ? PLACES[event.key] : undefined;
      if (place !== undefined) void navigate(place);
    };
    window.addEventListener('keydown', press);
    return () => window.removeEventListener('keydown', press);
  }, [navigate, shortcuts]);
  return (
    <Modal open={help} title="Keys" footer={null} onCancel={() => setHelp(false)}>
      <p>
        <Switch id="shortcuts" checked={shortcuts} onChange={setShortcuts} />{' '}
        <label htmlFor="shortcuts">Single letters open pages</label>
      </p>
      <dl>
        {HELP.map(([key, meaning]) => (
          <div key={key} style={{ display: 'flex', gap: 16 }}>
            <dt style={{ width: 130 }}>
              <kbd>{key}</kbd>
            </dt>
            <dd style={{ margin: 0 }}>{meaning}</dd>
          </div>
        ))}
      </dl>
    </Modal>
  );
}
