/** The nonce that the content security policy of this page allows styles by. */
export const nonce =
  document.querySelector<HTMLMetaElement>('meta[property="csp-nonce"]')?.nonce ?? undefined;

/**
 * Gives every style element the page's nonce. Ant Design passes it on for its own styles, but
 * measures scroll bars and locks scrolling with style elements that have none.
 */
export function giveStylesTheNonce(): void {
  const create = document.createElement.bind(document);
  document.createElement = (tag: string, options?: ElementCreationOptions): HTMLElement => {
    const element = create(tag, options);
    if (nonce && element instanceof HTMLStyleElement) element.nonce = nonce;
    return element;
  };
}
