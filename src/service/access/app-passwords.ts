import * as store from '../../store/app-passwords.ts';
import { addEntry } from '../../store/journeys.ts';
import { badInput, Problem } from '../base/problem.ts';
import { generatedAppPassword, secretHash } from '../base/secrets.ts';
import { requireMailbox } from '../directory/mailboxes.ts';
import type { AccessDeps } from './deps.ts';

/** App passwords of one mailbox: more devices than anybody has. */
const MOST = 50;
const LONGEST_NAME = 60;

export const listAppPasswords = (context: AccessDeps, address: string): store.AppPassword[] =>
  store.listAppPasswords(context.db, requireMailbox(context, address).id);

/** Makes a password for one device, which is shown this once. */
export async function addAppPassword(context: AccessDeps, address: string, given: string): Promise<{ name: string; password: string }> {
  const { db, clock } = context;
  const name = given.trim();
  if (name === '' || name.length > LONGEST_NAME || /\p{Cc}/u.test(name))
    throw badInput('name', 'An app password needs the name of a device.', `Give 1 to ${LONGEST_NAME} characters, like “Ana’s phone”.`);
  const password = generatedAppPassword();
  await db.commit(() => {
    const mailbox = requireMailbox(context, address);
    const all = store.listAppPasswords(db, mailbox.id);
    if (all.some((one) => one.name === name))
      throw new Problem(
        'exists-already',
        `${mailbox.address} has an app password “${name}” already.`,
        'Remove that first, or choose another name.',
      );
    if (all.length >= MOST)
      throw new Problem('too-many', `${mailbox.address} has ${MOST} app passwords already.`, 'Remove those that are no longer used.');
    store.addAppPassword(db, mailbox.id, { name, hash: secretHash(password) }, clock.now());
    addEntry(db, {
      at: clock.now(),
      journeyId: null,
      domain: mailbox.domain,
      event: 'app-password-added',
      data: { address: mailbox.address, name },
    });
  });
  return { name, password };
}

/** Takes a device's password away; what it has open ends at once. */
export async function removeAppPassword(context: AccessDeps, address: string, name: string): Promise<void> {
  const { db, clock } = context;
  await db.commit(() => {
    const mailbox = requireMailbox(context, address);
    const found = store.findAppPasswordNamed(db, mailbox.id, name);
    if (!found)
      throw new Problem(
        'not-found',
        `${mailbox.address} has no app password “${name.slice(0, 80)}”.`,
        `List them: tenedor app-password list ${mailbox.address}`,
      );
    store.removeAppPassword(db, found.id);
    addEntry(db, {
      at: clock.now(),
      journeyId: null,
      domain: mailbox.domain,
      event: 'app-password-removed',
      data: { address: mailbox.address, name },
    });
  });
}
