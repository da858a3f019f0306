import ipaddr from 'ipaddr.js';

/** Whether a text is an IPv4 address in four parts or an IPv6 address; shorter old spellings of IPv4 are none. */
export const isIpAddress = (text: string): boolean => ipaddr.isValid(text) && (text.includes(':') || text.split('.').length === 4);
