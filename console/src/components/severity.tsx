import type { Severity } from '../api/client';

/** Shapes that differ without colour; the word stands beside each. */
const SHAPES: Record<Severity, string> = { critical: '◆', major: '▲', minor: '▽' };

/** Perceived severity (RFC 8632) by shape and word. */
export function SeverityMark({ severity }: { severity: Severity | null | undefined }) {
  if (severity == null) return <span className="severity quiet">○ info</span>;
  return (
    <span className={`severity severity-${severity}`}>
      {SHAPES[severity]} {severity}
    </span>
  );
}
