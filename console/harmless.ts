/** What turns a line round, or is not to be seen, is shown as a mark: names, notes and subjects come from strangers. */
const STEERING = /[\p{Zl}\p{Zp}\u0080-\u009f\u061c\u200e\u200f\u202a-\u202e\u2066-\u2069\u{e0000}-\u{e007f}]/gu;
export const harmless = (_key: string, value: unknown): unknown => (typeof value === 'string' ? value.replace(STEERING, '\ufffd') : value);
