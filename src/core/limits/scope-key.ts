/** By what a scope is known in maps and in what waits under it. */
export const scopeKey = ({ kind, id }: { kind: string; id: number }): string => `${kind} ${id}`;
