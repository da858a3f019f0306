/** A message as it is put into a mailbox, for tests that ask for nothing special of it. */
export const DELIVERED = {
  flags: 0,
  keywords: '',
  internalDate: 0,
  savedAt: 0,
  size: 10,
  prefix: 'P\r\n',
  file: 'f',
  outlineId: null,
  journeyId: 'j',
};
