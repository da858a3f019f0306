/** `95 % are used (95 MiB of 100 MiB)`, of octets or messages, whichever is nearer its end. */
export function usedOf(bytes: number, mostBytes: number | null, messages: number, mostMessages: number | null): string {
  const [ofBytes, ofMessages] = [mostBytes === null ? 0 : bytes / mostBytes, mostMessages === null ? 0 : messages / mostMessages];
  const percent = `${Math.floor(100 * Math.max(ofBytes, ofMessages))} % are used`;
  return ofMessages > ofBytes
    ? `${percent} (${messages.toLocaleString('en')} of ${mostMessages?.toLocaleString('en')} messages)`
    : `${percent} (${mebibytes(bytes)} of ${mebibytes(mostBytes ?? 0)})`;
}

const mebibytes = (bytes: number): string => `${(bytes / 1024 ** 2).toLocaleString('en', { maximumFractionDigits: 1 })} MiB`;
