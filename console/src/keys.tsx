import { Modal } from 'antd';
import { useEffect, useState } from 'react';
import { useNavigate } from 'react-router';

const PLACES: Record<string, string> = {
  n: '/',
  a: '/alarms',
  i: '/incidents',
  b: '/pairs',
  f: '/fleet',
};

const HELP: [string, string][] = [
  ['n', 'what is wrong now'],
  ['a', 'alarms'],
  ['i', 'incidents'],
  ['b', 'two-way measurements between sites'],
  ['f', 'agents, host facts and checks'],
  ['j or ↓, k or ↑', 'next and previous in a list'],
  ['Enter', 'open what is selected'],
  ['?', 'these keys'],
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
  const [help, setHelp] = useState(false);
  useEffect(() => {
    const press = (event: KeyboardEvent) => {
      if (isWriting(event.target) || event.ctrlKey || event.metaKey || event.altKey) return;
      const place = PLACES[event.key];
      if (place !== undefined) void navigate(place);
      if (event.key === '?') setHelp(true);
    };
    window.addEventListener('keydown', press);
    return () => window.removeEventListener('keydown', press);
  }, [navigate]);
  return (
    <Modal open={help} title="Keys" footer={null} onCancel={() => setHelp(false)}>
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
