type Data = Record<string, unknown>;

const text = (value: unknown): string => (value === null || value === undefined ? '' : String(value));
const list = (value: unknown): string => (Array.isArray(value) ? value.map(text).join(', ') : text(value));
const limitText = (value: unknown): string => (value === null || value === undefined ? 'no limit' : text(value));

/** Each event of the journal in one sentence for people. An event without an entry here is shown by its name. */
const WORDS: Record<string, (data: Data) => string> = {
  connected: (d) =>
    `${text(d['client'])} (${text(d['helo'])}) connected to ${text(d['service'])}${d['tls'] ? ' with TLS' : ' without TLS'}${d['user'] ? `, signed in as ${text(d['user'])}` : ''}`,
  expanded: (d) => `${text(d['recipient'])} leads through ${list(d['through'])} to ${list(d['to'])}`,
  completed: (d) => `missing, and added here: ${list(d['added'])}`,
  signed: (d) => `signed for ${text(d['domain'])} with the key ${text(d['selector'])}`,
  accepted: (d) =>
    `accepted and on disk, ${text(d['size'])} octets for ${text(d['recipients'])} ${d['recipients'] === 1 ? 'recipient' : 'recipients'}`,
  charged: (d) => `${text(d['sends'])} ${d['sends'] === 1 ? 'send' : 'sends'} charged to the ledger`,
  refused: (d) => `${d['recipient'] ? `${text(d['recipient'])}: ` : ''}${text(d['reply'])}`,
  delivered: (d) => `${text(d['recipient'])}: into ${text(d['folder'])}`,
  relayed: (d) => `${text(d['recipient'])}: ${place(d)} took it: ${text(d['reply'])}`,
  delayed: (d) => `${text(d['recipient'])}: ${d['host'] ? `${place(d)}: ` : ''}${text(d['reply'])}`,
  failed: (d) => `${text(d['recipient'])}: ${d['host'] ? `${place(d)}: ` : ''}${text(d['reply'])}`,
  hurried: (d) => `${text(d['recipients'])} waiting ${d['recipients'] === 1 ? 'recipient is' : 'recipients are'} to be tried at once`,
  reporting: (d) => `failure report about journey ${text(d['about'])} (${list(d['recipients'])})`,
  reported: (d) => `${text(d['to'])} was told of the failure, in journey ${text(d['report'])}`,
  'not-reported': (d) => `${text(d['to'])} was not told of the failure: ${text(d['reason'])}`,
  'domain-added': (d) => `taken on with the role ${text(d['role'])} and the plan ${text(d['plan'])} for ${text(d['customer'])}`,
  'domain-changed': (d) =>
    `changed: ${Object.entries(d)
      .filter(([, value]) => value !== undefined)
      .map(([name, value]) => `${name} ${text(value)}`)
      .join(', ')}`,
  'domain-removed': () => 'removed',
  'limit-set': (d) => `limits are now ${limitText(d['hour'])} per hour and ${limitText(d['day'])} per day`,
  'mailbox-added': (d) => `mailbox ${text(d['address'])} added`,
  'mailbox-changed': (d) => `mailbox ${text(d['address'])} changed${d['password'] ? ' (new password)' : ''}`,
  'mailbox-removed': (d) => `mailbox ${text(d['address'])} removed`,
  'alias-added': (d) => `alias ${text(d['address'])} added, leads to ${list(d['targets'])}`,
  'alias-changed': (d) => `alias ${text(d['address'])} now leads to ${list(d['targets'])}`,
  'alias-removed': (d) => `alias ${text(d['address'])} removed`,
  'finding-changed': (d) =>
    `${d['subject'] === 'reverse' ? 'reverse DNS' : text(d['subject']).toUpperCase()} became ${text(d['verdict'])} (before: ${text(d['before']) || 'not known'}): ${text(d['headline'])}`,
  judged: (d) => {
    const { spf, helo, dkim, dmarc } = d as { spf: Data; helo: Data; dkim: Data[]; dmarc: Data };
    const signatures =
      dkim.map((one) => `${text(one['result'])} for ${text(one['domain'])} (${text(one['reason'])})`).join(', ') || 'no signature';
    const said = spf['explanation'] ? `, which says: “${text(spf['explanation'])}”` : '';
    const wanted = dmarc['result'] === 'fail' ? `, and the domain asks for ${text(dmarc['policy'])}` : '';
    const end = d['trusted']
      ? `; nothing follows, because ${text(d['trusted'])} is a trusted network`
      : dmarc['result'] === 'fail' && d['judge'] === 'note'
        ? '; nothing follows, because the domain only notes it'
        : d['folder'] === 'Junk'
          ? '; filed as junk'
          : '';
    return `SPF ${text(spf['result'])} for ${text(spf['domain'])} (HELO ${text(helo['result'])})${said}; DKIM ${signatures}; DMARC ${text(dmarc['result'])} for ${text(dmarc['domain']) || 'nobody'} (${text(dmarc['reason'])})${wanted}${end}`;
  },
  'key-prepared': (d) => `DKIM key ${text(d['selector'])} ${d['imported'] ? 'taken in' : 'made'}; it does not sign yet`,
  'key-activated': (d) =>
    `DKIM key ${text(d['selector'])} signs from now on${d['force'] ? '; activated by force, without a look at what is published' : ''}`,
  'key-retiring': (d) => `DKIM key ${text(d['selector'])} signs no more; it stays published until nothing that it signed is under way`,
  'key-retired': (d) => `DKIM key ${text(d['selector'])} is retired${d['force'] ? ', by force before its time' : ''}`,
  'key-removed': (d) => `DKIM key ${text(d['selector'])} removed`,
  'records-published': (d) => `zone ${text(d['zone'])} updated: ${list(d['changes'])}`,
  'zone-set': (d) => `updates of the zone go to ${text(d['server'])} with the key ${text(d['keyName'])}`,
  'zone-removed': () => 'the zone is no longer updated from here',
  'network-added': (d) => `the network ${text(d['cidr'])} is trusted${d['note'] ? ` (${text(d['note'])})` : ''}`,
  'network-removed': (d) => `the network ${text(d['cidr'])} is no longer trusted`,
};

function place(d: Data): string {
  return `${text(d['host'])} [${text(d['address'])}]${d['tls'] ? ' with TLS' : ''}`;
}

/** What happened, in words. Control characters of the outside are shown as marks, never as they are. */
export function entryWords(event: string, data: Data): string {
  return (WORDS[event]?.(data) ?? event).replace(/\p{Cc}/gu, '�');
}
