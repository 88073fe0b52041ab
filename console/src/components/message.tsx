interface Words {
  contact?: string | null;
  detail: string[];
}

/** What a message says below its headline: numbers, reasons, and the contact. */
export function MessageDetail({ message }: { message: Words }) {
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
