/** One SMTP reply: code (RFC 5321 §4.2), enhanced status (RFC 3463; null where RFC 2034 has none) and free text. */
export interface Reply {
  code: number;
  status: string | null;
  text: string;
}

const reply = (code: number, status: string | null, text: string): Reply => ({ code, status, text });

/** Only printable ASCII goes into a reply, so that nothing a client sent can break or colour another line. */
export function replyLine({ code, status, text }: Reply): string {
  const clean = text.replace(/[^\x20-\x7e]+/g, '?').slice(0, 450);
  return `${code} ${status === null ? '' : `${status} `}${clean}\r\n`;
}

/** Every reply that the server gives, in one table. */
export const REPLIES = {
  greeting: (host: string) => reply(220, null, `${host} ESMTP ready`),
  tooManyConnections: (host: string) => reply(421, '4.7.0', `${host} has too many connections from your address; try later`),
  stopping: (host: string) => reply(421, '4.3.2', `${host} is stopping; try again soon`),
  idle: (host: string) => reply(421, '4.4.2', `${host} closes this idle connection`),
  tooSlow: (host: string) => reply(421, '4.4.2', `${host} closes the connection: no progress for too long`),
  tooManyErrors: (host: string) => reply(421, '4.7.0', `${host} closes the connection: too many failed commands`),
  signInEnded: (host: string) => reply(421, '4.7.0', `${host} closes the connection: your sign-in is no longer valid; sign in again`),
  bye: reply(221, '2.0.0', 'Goodbye'),
  ok: reply(250, '2.0.0', 'Done'),
  help: reply(214, '2.0.0', 'This server speaks RFC 5321'),
  verifyNo: reply(252, '2.5.0', 'Addresses are not verified here; just send to them'),
  startTls: reply(220, '2.0.0', 'Begin TLS now'),
  tlsAlready: reply(503, '5.5.1', 'TLS is already on'),
  tlsUnavailable: reply(502, '5.5.1', 'TLS is not offered here'),
  tlsFirst: reply(530, '5.7.0', 'Begin TLS first (STARTTLS)'),
  signInNeedsTls: reply(538, '5.7.11', 'Signing in needs TLS; begin it first (STARTTLS)'),
  signInFirst: reply(530, '5.7.0', 'Sign in first (AUTH)'),
  signedInAlready: reply(503, '5.5.1', 'You are already signed in'),
  signInNotHere: reply(503, '5.5.1', 'This port takes no sign-ins; use 465 or 587'),
  mechanismUnknown: reply(504, '5.5.4', 'Sign in with PLAIN or LOGIN'),
  signInBroken: reply(501, '5.5.2', 'That is not a valid sign-in'),
  signInCancelled: reply(501, '5.0.0', 'Sign-in cancelled'),
  signedIn: reply(235, '2.7.0', 'Signed in'),
  signInWrong: reply(535, '5.7.8', 'User name or password is wrong'),
  signInBusy: reply(454, '4.7.0', 'Too many sign-ins right now; try again soon'),
  signInHeld: (seconds: number) => reply(454, '4.7.0', `Too many wrong sign-ins; try again in ${seconds} seconds`),
  lineTooLong: reply(500, '5.5.2', 'The line is too long'),
  unknownCommand: reply(500, '5.5.2', 'There is no such command'),
  badArgument: (what: string) => reply(501, '5.5.4', what),
  greetFirst: reply(503, '5.5.1', 'Say EHLO first'),
  mailFirst: reply(503, '5.5.1', 'Say MAIL FROM first'),
  mailAlready: reply(503, '5.5.1', 'A message is already under way; finish it, or send RSET'),
  chunksBegun: reply(503, '5.5.1', 'The message was begun with BDAT; finish it with BDAT, or send RSET'),
  utf8NotAsked: reply(553, '5.6.7', 'A non-ASCII address needs SMTPUTF8 with MAIL FROM'),
  spokeEarly: (host: string) => reply(554, '5.5.1', `You spoke before ${host} greeted you`),
  claimsOurName: (name: string) => reply(550, '5.7.1', `You greeted as ${name}, which is this server`),
  blockListed: (address: string, list: string) =>
    reply(554, '5.7.1', `${address} is on the block list ${list}; ask there how to be removed`),
  queueStarted: (domain: string) => reply(250, '2.0.0', `Mail waiting for ${domain} is being sent`),
  queueEmpty: (domain: string) => reply(251, '2.0.0', `No mail is waiting for ${domain}`),
  queueNotYours: (domain: string) => reply(459, '4.7.1', `Mail for ${domain} is not released to your address`),
  queueBadName: reply(501, '5.5.4', 'That is not a domain whose mail can be asked for'),
  recipientFirst: reply(554, '5.5.1', 'No recipient was accepted'),
  senderOk: reply(250, '2.1.0', 'Sender noted'),
  recipientOk: reply(250, '2.1.5', 'Recipient noted'),
  startData: reply(354, null, 'Send the message; end it with a single dot'),
  tooManyRecipients: reply(452, '4.5.3', 'Too many recipients for one message; send the rest in another one'),
  tooBig: (most: number) => reply(552, '5.3.4', `The message is larger than ${most} octets`),
  bareLineEnd: reply(554, '5.6.0', 'The message has a bare CR or LF; lines must end in CR LF'),
  textLineTooLong: (most: number) => reply(554, '5.6.0', `The message has a line of more than ${most} octets`),
  headerTooBig: (most: number) => reply(554, '5.6.0', `The message header is larger than ${most} octets`),
  tooManyFields: (most: number) => reply(554, '5.6.0', `The message header has more than ${most} fields`),
  looping: reply(554, '5.4.6', 'The message has passed too many servers; it is in a loop'),
  busy: reply(452, '4.3.1', 'The server has no room for more messages right now; try again soon'),
  storeFailed: reply(451, '4.3.0', 'The message could not be stored; try again later'),
  accepted: (id: string) => reply(250, '2.6.0', `Accepted as ${id}`),
  sendingStopped: (text: string) => reply(450, '4.7.1', text),
  receivingStopped: (text: string) => reply(450, '4.2.1', text),
  networkMayNot: (network: string, address: string) => reply(550, '5.7.1', `The network ${network} may not send as ${address}`),
  returnExpired: reply(550, '5.1.6', 'That return address is no longer valid'),
  returnForBounces: reply(550, '5.7.1', 'Only delivery reports reach that return address'),
  primaryUnknown: (address: string) => reply(451, '4.4.1', `${address} can't be checked right now; try again later`),
  primaryRefuses: (address: string, text: string) => reply(550, '5.1.1', `The server for ${address} says: ${text}`),
  domainTooBig: (domain: string, most: number) => reply(552, '5.3.4', `${domain} takes messages of at most ${most} octets`),
  heldEnough: (domain: string, limit: string, most: number) =>
    reply(452, '4.7.28', `${domain} has used its limit of ${limit}, and ${most} recipients are already waiting for room`),
  noRelay: (domain: string) => reply(550, '5.7.1', `Mail for ${domain} is not accepted here; sign in to send through this server`),
  unknownMailbox: (address: string) => reply(550, '5.1.1', `There is no mailbox ${address}`),
  // RFC 5321 §4.2.2: 551 names the new address; RFC 3463 §3.2 has 5.1.6 for both.
  moved: (address: string) => reply(550, '5.1.6', `${address} has moved, and takes no mail here`),
  movedTo: (address: string, to: string) => reply(551, '5.1.6', `${address} has moved; write to ${to}`),
  trialOver: (address: string) =>
    reply(550, '5.2.1', `${address} takes one message, on the day it was made for; ask for another such address`),
  nobodyYet: (address: string) => reply(450, '4.2.1', `Mail for ${address} is not accepted yet; try again later`),
  mailboxFull: (address: string) => reply(452, '4.2.2', `The mailbox ${address} has no room for this message; its owner must make some`),
  mailboxFullForGood: (address: string) =>
    reply(552, '5.2.2', `The mailbox ${address} has no room for this message; its owner must make some`),
  domainFull: (address: string) =>
    reply(452, '4.2.2', `The domain of ${address} has no room for this message; somebody there must make some`),
  domainFullForGood: (address: string) =>
    reply(552, '5.2.2', `The domain of ${address} has no room for this message; somebody there must make some`),
  beenHere: (address: string) => reply(554, '5.4.6', `${address} has already passed this message on; it is in a loop`),
  tooManyBehind: (address: string, most: number) =>
    reply(550, '5.5.3', `${address} leads to more than ${most} addresses; write to parts of it`),
  aliasLoop: (address: string) => reply(550, '5.4.6', `The alias ${address} leads back to itself`),
  badAddress: (reason: string) => reply(553, '5.1.3', `That is not an address: ${reason}`),
  badSenderAddress: (reason: string) => reply(553, '5.1.7', `That is not an address: ${reason}`),
  senderNotYours: (address: string, user: string) => reply(550, '5.7.1', `${user} may not send as ${address}`),
  unreadableSubmission: (reason: string) => reply(554, '5.6.0', reason),
  // RFC 7372 §3 and the IANA codes: 7.24 for SPF without an answer, 7.26 for what failed several ways, 4.3 for name servers.
  spfUnanswered: (domain: string) => reply(451, '4.7.24', `The SPF records of ${domain} could not be looked up right now; try again later`),
  judgeUnanswered: (domain: string) =>
    reply(451, '4.4.3', `The records that mail from ${domain} is judged by could not be looked up right now; try again later`),
  dmarcRefused: (domain: string, reason: string) =>
    reply(550, '5.7.26', `${domain} asks to reject mail that fails its DMARC policy, p=reject: ${reason}`),
  beginsWithBlank: reply(554, '5.6.0', 'The header begins with a continuation line (RFC 5322 section 2.2.3)'),
  holdsNul: reply(554, '5.6.0', 'The message contains a NUL octet, which is not allowed (RFC 5322 section 2.2)'),
  headerUnreadable: (fault: string) => reply(554, '5.6.0', fault),
  authorUnclear: reply(550, '5.7.1', 'From does not name one author that every mail program would show (RFC 5322 section 3.6.2)'),
  otherJudge: reply(452, '4.5.3', 'That recipient is judged by other rules; send it a separate message'),
  limitReached: (domain: string, limit: string, room: string) => reply(452, '4.7.28', `${domain} has used its limit of ${limit}; ${room}`),
} as const;
