const MAIL_PORT = 25;

/** `host`, `host:port` or `[2001:db8::1]:port`. */
export function readHandTo(text: string): { name: string; port: number } {
  const found = /^(?:\[([^\]]+)\]|([^:]+))(?::(\d{1,5}))?$/.exec(text);
  return { name: found?.[1] ?? found?.[2] ?? text, port: Number(found?.[3] ?? MAIL_PORT) };
}
