import { ChainFault, readChain } from '../../core/certificates/chain.ts';
import { type CertificateFinding, certificateFindings } from '../../core/certificates/findings.ts';
import { coversAny } from '../../core/certificates/names.ts';
import { lookUp } from '../../core/records/answers.ts';
import { sameAddress } from '../../core/records/reverse-name.ts';
import { connectionFault, type RehearsalStep, type RehearsalWay } from '../../core/rehearsal/rehearsal.ts';
import { RehearsalFault, type RehearsalTalk } from './rehearsal-door.ts';
import type { RehearsalWorld } from './rehearsal-world.ts';

export type Took = Pick<RehearsalStep, 'seen'> & Partial<Pick<RehearsalStep, 'action' | 'state' | 'journeyId'>>;

/** What a step came to when it failed. */
export class StepFailed extends Error {
  constructor(
    readonly seen: string,
    readonly action: string,
  ) {
    super(seen);
  }
}

/** Puts steps behind one another: after one that has failed, the others are not reached. */
export class Way implements RehearsalWay {
  readonly steps: RehearsalStep[] = [];
  // Not a part of what it comes to.
  #isOver = false;

  constructor(readonly name: string) {}

  /** The step before has failed, and the next ones can be taken all the same. */
  goOn(): void {
    this.#isOver = false;
  }

  async step(
    key: string,
    name: string,
    talk: (() => RehearsalTalk) | null,
    work: () => Promise<Took>,
    action = 'See the service’s log for details.',
  ): Promise<void> {
    if (this.#isOver) {
      this.steps.push({ key, name, state: 'not-reached', ms: null, seen: '', action: '', said: [] });
      return;
    }
    const begun = performance.now();
    const end = (took: Took): void => {
      const said = talk?.().said() ?? [];
      this.steps.push({ key, name, state: 'done', action: '', ...took, ms: Math.round(performance.now() - begun), said });
    };
    try {
      end(await work());
    } catch (error) {
      if (error instanceof StepFailed) end({ state: 'failed', seen: error.seen, action: error.action });
      else if (error instanceof RehearsalFault) end({ state: 'failed', ...faultOf(error, action) });
      else throw error;
      this.#isOver = true;
    }
  }
}

function faultOf({ kind, what }: RehearsalFault, action: string): { seen: string; action: string } {
  if (kind === 'answer') return { seen: `It was answered: ${what}`, action };
  if (kind === 'tls')
    return {
      seen: `TLS did not begin (${what}).`,
      action: 'Look whether the port speaks TLS at once, or only when it is asked to; and at the log of the service.',
    };
  return connectionFault(what);
}

export async function addressesOf({ lookup }: RehearsalWorld, server: string): Promise<string[]> {
  const answers = await Promise.all([lookUp(lookup, server, 'A'), lookUp(lookup, server, 'AAAA')]);
  const found = answers.flatMap((one) => (one.kind === 'found' ? one.values : []));
  if (found.length > 0) return found;
  const failed = answers.find((one) => one.kind === 'failed');
  throw new StepFailed(
    failed?.kind === 'failed' ? `DNS gives no answer about ${server}: ${failed.reason}.` : `${server} has no address in DNS.`,
    failed
      ? 'Look at the resolvers: tenedor host show'
      : `Publish its A and AAAA records; for a name of a domain: tenedor certificate show ${server}`,
  );
}

/** Connects to all addresses of a name, as clients take any of them; goes on with the first that can be had, this host’s own before others. */
export async function connectToEach(
  { host, open }: RehearsalWorld,
  addresses: readonly string[],
  port: number,
  /** What to do about one that is none of this host’s. */
  notOurs = 'Take it out of DNS, or have it lead here: it is none of this host’s addresses.',
): Promise<{ talk: RehearsalTalk | null; fault: StepFailed | null }> {
  const isOurs = (address: string): boolean => host.addresses.some((own) => sameAddress(own, address));
  const results = await Promise.all(
    [...addresses]
      .sort((one, other) => Number(isOurs(other)) - Number(isOurs(one)))
      .map(async (address) => {
        try {
          return { address, talk: await open(address, port), fault: null };
        } catch (error) {
          if (error instanceof RehearsalFault) return { address, talk: null, fault: error.what };
          throw error;
        }
      }),
  );
  const [talk = null, ...others] = results.flatMap((one) => one.talk ?? []);
  for (const one of others) one.close();
  const bad = results.find((one) => one.fault !== null);
  if (!bad) return { talk, fault: null };
  const { seen, action } = connectionFault(bad.fault ?? undefined);
  const text = `At ${bad.address}: ${seen}`;
  return {
    talk,
    fault: new StepFailed(text, isOurs(bad.address) ? action : notOurs),
  };
}

/** The worst that can be said of a certificate that was shown to who asked for a name. */
export function lookAtCertificate(
  { roots, host, now }: RehearsalWorld,
  server: string,
  pem: string,
): CertificateFinding & { isOurs: boolean } {
  try {
    const chain = readChain(pem, roots);
    const [worst] = certificateFindings(server, chain, {
      now: now(),
      isRenewed: coversAny(host.renewed, server),
    });
    // Whoever shows it has its key.
    const isOurs = host.fingerprints.includes(chain.facts.fingerprint);
    return { ...(worst as CertificateFinding), isOurs };
  } catch (error) {
    if (error instanceof ChainFault) throw new StepFailed(error.message, 'Look at it: tenedor certificate check');
    throw error;
  }
}
