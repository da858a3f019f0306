/** The letter to a customer about changes in DNS; `count` is the number of changes. */
export const DNS_LETTER = {
  subject: (domain: string, count: number): string => `DNS of ${domain}: ${count > 1 ? `${count} changes needed` : 'one change needed'}`,
  before: (domain: string, count: number): string[] => [
    'Hello,',
    '',
    `so that mail of ${domain} arrives and is trusted, please make ${count > 1 ? 'these changes' : 'this change'} where the domain’s DNS is managed.`,
    'Enter values exactly as shown.',
  ],
  after: ['', 'If the form asks for a TTL, use 3600. Other servers see the change within some hours.', '', 'Thank you.'],
  fullName: (name: string): string => `if the form wants the full name: ${name}`,
  numberNames: '“preference” or “priority” in some forms',
  inStrings: 'If the form takes no more than 255 characters at once, as these strings, with the quotes',
  fields: { type: 'Type', name: 'Name', number: 'Number', value: 'Value' },
} as const;

/** The request to the holder of the address block for reverse DNS; `records` are address, host name and PTR record of each. */
export const REVERSE_REQUEST = {
  before: (host: string): string => `Please set the reverse DNS of our mail host ${host}:`,
  record: (address: string, host: string): string => `${address} should resolve to ${host}`,
  after: 'Exactly one PTR record for each address.',
  forwardIsThere: 'The forward records of the name already point to these addresses.',
  thanks: 'Thank you.',
} as const;

/** A mailbox’s client settings, as text and as a page. */
export const SETTINGS_SHEET = {
  uses: { reading: 'Reading mail', sending: 'Sending mail' },
  address: (address: string): string => `Address and user name: ${address}`,
  password: 'Password: the one you were given',
  or: 'or',
  line: (protocol: string, port: number, security: string): string => `${protocol}, port ${port}, ${security}`,
  title: (address: string): string => `Settings for ${address}`,
  /** HTML; the address is escaped. */
  user: (address: string): string =>
    `User name: <strong>${address}</strong> (the whole address), for reading and sending. Password: the one you were given.`,
  opening: 'These are the settings for your email program or phone.',
  heads: ['For', 'Protocol', 'Server', 'Port', 'Security'],
  first: 'Use the first of each kind that your client supports.',
} as const;
