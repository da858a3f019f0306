import type { ServiceContext } from '../service/app/context.ts';
import { addCustomer } from '../service/directory/customers.ts';
import { addDomain } from '../service/directory/domains.ts';
import { doStep } from '../service/moves/acts.ts';
import { beginMove } from '../service/moves/plans.ts';
import { oldPasswordOf } from './old-server.ts';
import { MOVING, OLD_HOST } from './world.ts';

/** A customer whose domain is on its way here: the first pass is done, and its DNS is as it was. */
export async function seedMove(context: ServiceContext): Promise<void> {
  const { customer, domain, plan, people } = MOVING;
  await addCustomer(context, customer);
  await addDomain(context, { name: domain, customer, plan, role: 'away' });
  const accounts = people.map((person) => ({
    user: `${person}@${domain}`,
    password: oldPasswordOf(person),
    into: `${person}@${domain}`,
  }));
  await beginMove(context, domain, {
    ...{ host: OLD_HOST.name, port: 993, security: 'tls', fingerprint: null, accounts, master: null },
    ...{ atOnce: 3, perSecond: 0, quietHours: 48, mailServer: null },
  });
  for (const step of ['sign-in', 'mailboxes', 'first-pass'] as const) {
    const { plan: now } = await doStep(context, domain, step);
    if (now.steps.some((one) => one.state === 'under-way')) await context.transfers.quiet();
  }
}
