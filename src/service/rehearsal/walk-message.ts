import type { ClientSetting } from '../../core/records/client-settings.ts';
import { letterLines, messageIdOf, type RehearsalLetter } from '../../core/rehearsal/letter.ts';
import {
  foundExchanges,
  letterExchanges,
  openInboxExchanges,
  removeExchanges,
  signInSteps,
  startTlsExchanges,
} from '../../core/rehearsal/scripts.ts';
import type { RehearsalTalk } from './rehearsal-door.ts';
import { addressesOf, connectToEach, lookAtCertificate, StepFailed, type Way } from './rehearsal-steps.ts';
import type { RehearsalWorld } from './rehearsal-world.ts';

export interface SignedIn {
  user: string;
  setting: ClientSetting;
  pass: string;
}

/** Looked for so often, with a pause between: a message to oneself is there when it is accepted. */
const MOST_LOOKS = 20;
const PAUSE_MS = 250;

/** Sends a message as a mail program does, to its end. */
export async function submitLetter(world: RehearsalWorld, way: Way, who: SignedIn, to: string, letter: RehearsalLetter): Promise<void> {
  let line: RehearsalTalk | null = null;
  await way.step(
    'submit',
    `sends a message to ${to}`,
    () => line as unknown as RehearsalTalk,
    async () => {
      line = await opened(world, who, (talk) => {
        line = talk;
      });
      await line.talk(letterExchanges(who.user, to, letterLines(letter, who.user, to)));
      return { seen: 'it is taken' };
    },
    'What it says tells why; see also: tenedor explain',
  );
  (line as RehearsalTalk | null)?.close();
}

/** Sees a message arrive in the Inbox, and takes it away again. */
export async function seeArrive(world: RehearsalWorld, way: Way, who: SignedIn, letter: RehearsalLetter): Promise<void> {
  let line: RehearsalTalk | null = null;
  const talk = (): RehearsalTalk => line as unknown as RehearsalTalk;
  let uid = '';
  await way.step('arrive', `sees it arrive in the Inbox of ${who.user}`, talk, async () => {
    line = await opened(world, who, (open) => {
      line = open;
    });
    await line.talk(openInboxExchanges);
    for (let looks = 0; uid === ''; looks += 1) {
      if (looks === MOST_LOOKS)
        throw new StepFailed('It was accepted, and is not in the Inbox.', 'Follow it: tenedor traffic, with the subject “A rehearsal”.');
      if (looks > 0) await new Promise((resolve) => setTimeout(resolve, PAUSE_MS));
      uid = /^\* SEARCH (\d+)/m.exec(await line.talk(foundExchanges(messageIdOf(letter))))?.[1] ?? '';
    }
    return { seen: `it is there, as number ${uid}` };
  });
  await way.step('remove', 'takes it away again', talk, async () => {
    await talk().talk(removeExchanges(uid));
    return { seen: 'nothing of it is left in the mailbox' };
  });
  (line as RehearsalTalk | null)?.close();
}

/** Connects, begins TLS and signs in, as the steps before have done. */
async function opened(
  world: RehearsalWorld,
  { user, setting, pass }: SignedIn,
  onOpen: (talk: RehearsalTalk) => void,
): Promise<RehearsalTalk> {
  const { service, server, port } = setting;
  const { talk, fault } = await connectToEach(world, await addressesOf(world, server), port);
  if (!talk) throw fault ?? new StepFailed(`Port ${port} can’t be reached.`, 'See the way above.');
  onOpen(talk);
  const heloName = world.host.name;
  const before = startTlsExchanges(service, heloName);
  if (before) await talk.talk(before);
  const { pem } = await talk.startTls(server);
  if (!lookAtCertificate(world, server, pem).isOurs)
    throw new StepFailed('Another server answers; the pass is not sent there.', `Have ${server} lead here, at all of its addresses.`);
  const [signIn] = signInSteps(service, { user, pass, heloName });
  if (signIn) await talk.talk(signIn.exchanges);
  return talk;
}
