import { afterEach, expect, it } from 'vitest';
import { findServer } from '../../../src/compose/host-facts.ts';
import type { Config } from '../../../src/service/app/config.ts';
import type { RehearsalTalk } from '../../../src/service/rehearsal/rehearsal-door.ts';
import { rehearsedHost, worldHere } from '../../../src/service/rehearsal/rehearsal-world.ts';
import { type Bare, openBare } from '../../support/context.ts';
import { lookupIn } from '../../support/lookup.ts';

let bare: Bare | null = null;
afterEach(() => {
  bare?.close();
  bare = null;
});

it('a rehearsal connects to public addresses, some of them, whatever DNS names', async () => {
  bare = await openBare();
  const { context } = bare;
  const asked: string[] = [];
  context.rehearse = async (address) => {
    asked.push(address);
    return {} as RehearsalTalk;
  };
  context.dns.openViews = () => ({ source: context.lookup }) as never;
  const { open } = worldHere(context, rehearsedHost(context));
  for (const address of ['127.0.0.1', '10.0.0.1', '169.254.169.254', '::ffff:192.168.0.1', '64:ff9b::a00:1'])
    await expect(open(address, 25)).rejects.toMatchObject({ what: 'not-public' });
  expect(asked).toEqual([]);
  for (let number = 0; number < 32; number += 1) await open('203.0.113.5', 25);
  await expect(open('203.0.113.5', 25)).rejects.toMatchObject({ what: 'too-many' });
  expect(asked).toHaveLength(32);
});

it('an import finds no server on this machine, by whatever name, unless the configuration says so', async () => {
  const lookup = lookupIn([
    ['in.example', 'A', '127.0.0.1'],
    ['far.example', 'A', '203.0.113.5'],
  ]);
  const find = (host: string, toThisMachine: boolean) =>
    findServer({ dial: [], outgoing: { to_this_machine: toThisMachine } } as unknown as Config, lookup, host, 993);
  for (const host of ['127.0.0.1', '0.0.0.0', '::1', '::ffff:127.0.0.1', '64:ff9b::7f00:1', 'in.example']) {
    expect(await find(host, false), host).toBe('own-machine');
    expect(await find(host, true), host).toMatchObject({ port: 993 });
  }
  expect(await find('far.example', false)).toMatchObject({ address: '203.0.113.5' });
  expect(await find('none.example', false)).toBeNull();
});
