/** Foreign text in answers of the service: control characters and direction marks become visible. */

// C0 without tab and line end, DEL, C1; direction marks of UAX #9 and the separators of UAX #14.
const HIDDEN =
  // eslint-disable-next-line no-control-regex -- the expression finds these characters
  /[\u0000-\u0008\u000b-\u001f\u007f-\u009f\u061c\u200e\u200f\u2028-\u202e\u2066-\u2069]/gu;

export function plainText(text: string): string {
  return text.replace(HIDDEN, (character) => `\\u{${character.codePointAt(0)?.toString(16)}}`);
}

/** The same value with every text in it made plain. */
export function plain<T>(value: T): T {
  if (typeof value === 'string') return plainText(value) as T;
  if (Array.isArray(value)) return value.map(plain) as T;
  if (typeof value === 'object' && value !== null) {
    return Object.fromEntries(Object.entries(value).map(([name, of]) => [name, plain(of)])) as T;
  }
  return value;
}
