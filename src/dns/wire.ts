import packet from 'dns-packet';

/** Parts of the wire format package that its types leave out. */
interface WireParts {
  name: { encode(name: string): Buffer };
  /** The data of a record with their length in front. */
  record(type: string): { encode(data: unknown): Buffer };
}
const parts = packet as unknown as WireParts;

/** A name on the wire, in lower case and not compressed (RFC 8945 §4.2 asks for that). */
export const nameWire = (name: string): Buffer => parts.name.encode(name.toLowerCase());
export const dataWire = (type: string, data: unknown): Buffer => parts.record(type).encode(data);
