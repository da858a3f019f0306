/** RFC 6376 §3.1: a selector is one or more DNS labels. */
export const isSelector = (text: string): boolean =>
  text.length <= 120 && /^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?(\.[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?)*$/.test(text);
