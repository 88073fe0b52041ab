import type { Message } from '../api/client';

/** What a message says below its headline: numbers, reasons, and the contact. */
export function MessageDetail({ message }: { message: Message }) {
  return (
    <>
      {message.contact != null && (
        <p className="said">
          <strong>{message.contact}</strong>
        </p>
      )}
      {message.detail.map((line) => (
        <p className="said" key={line}>
          {line}
        </p>
      ))}
    </>
  );
}
