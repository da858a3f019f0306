/** What stands after the last @ of an address, as it is written; all of a text without one. */
export const domainSide = (address: string): string => address.slice(address.lastIndexOf('@') + 1);

/** What stands before the last @ of an address, as it is written. */
export const localSide = (address: string): string => address.slice(0, Math.max(0, address.lastIndexOf('@')));
