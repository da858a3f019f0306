import { readFileSync } from 'node:fs';
import { Agent } from 'node:https';
import * as acme from 'acme-client';
import {
  type AuthorityDoor,
  type AuthorityLogin,
  AuthorityRefusal,
  type Challenge,
  type OrderedCertificate,
} from '../service/certificates/doors.ts';

export interface AuthoritySettings {
  /** The address of its directory (RFC 8555 §7.1.1). */
  directory: string;
  contact: string | null;
  /** A file of PEM certificates that are trusted when it is spoken to, instead of the public ones. */
  trustedRoots: string | null;
  /** What ties our account to one that the authority knows already (RFC 8555 §7.3.4). */
  binding: { id: string; keyFile: string } | null;
}

const TIMEOUT_MS = 30_000;
/** How often it is asked how far it has come, and how long between two times, in ms. */
const POLLS = { backoffAttempts: 20, backoffMin: 500, backoffMax: 5000 };

// Who waits how long is decided by us: the package would ask again at once.
Object.assign((acme.axios.defaults as unknown as { acmeSettings: object }).acmeSettings, { retryMaxAttempts: 0 });
acme.axios.defaults.timeout = TIMEOUT_MS;
acme.axios.defaults.headers.common['User-Agent'] = 'tenedor';

/** How each authority is reached, by the beginning of its addresses. */
const agents = new Map<string, Agent>();
/** How long each does not want to be asked, as it said last. */
const waits = new Map<string, number>();
acme.axios.interceptors.request.use((config) => {
  const agent = agents.get(new URL(config.url ?? '').origin);
  return agent ? { ...config, httpsAgent: agent } : config;
});
acme.axios.interceptors.response.use((response) => {
  const after = response.headers['retry-after'];
  if (response.status >= 400 && after !== undefined) waits.set(new URL(response.config.url ?? '').origin, waitOf(String(after)));
  return response;
});

const waitOf = (after: string): number => {
  const seconds = /^\d+$/.test(after) ? Number(after) : (Date.parse(after) - Date.now()) / 1000;
  return Number.isFinite(seconds) ? Math.max(0, Math.min(seconds, 7 * 24 * 3600)) * 1000 : 0;
};

/** An authority that is spoken to by RFC 8555. */
export class Authority implements AuthorityDoor {
  readonly directory: string;
  private readonly origin: string;

  constructor(private readonly settings: AuthoritySettings) {
    this.directory = settings.directory;
    this.origin = new URL(settings.directory).origin;
    if (settings.trustedRoots !== null) agents.set(this.origin, new Agent({ ca: readFileSync(settings.trustedRoots) }));
  }

  async names(): Promise<string[]> {
    const { meta } = await this.readDirectory();
    return (meta?.caaIdentities ?? []).map((one) => String(one).toLowerCase());
  }

  account(known: AuthorityLogin | null): Promise<AuthorityLogin> {
    return this.asked(async () => {
      const key = known?.key ?? (await acme.crypto.createPrivateEcdsaKey()).toString();
      const client = this.client({ url: known?.url ?? '', key });
      await client.createAccount({
        termsOfServiceAgreed: true,
        ...(this.settings.contact === null ? {} : { contact: [`mailto:${this.settings.contact}`] }),
      });
      return { url: client.getAccountUrl(), key };
    });
  }

  order(
    login: AuthorityLogin,
    name: string,
    kind: Challenge['kind'],
    show: (challenge: Challenge) => Promise<void>,
    hide: (challenge: Challenge) => Promise<void>,
  ): Promise<OrderedCertificate> {
    return this.asked(async () => {
      const client = this.client(login);
      const order = await client.createOrder({ identifiers: [{ type: 'dns', value: name }] });
      for (const authorization of await client.getAuthorizations(order))
        if (authorization.status !== 'valid') await this.prove(client, order, authorization, { name, kind, show, hide });
      const [key, request] = await acme.crypto.createCsr({ altNames: [name] }, await acme.crypto.createPrivateEcdsaKey());
      const done = await client.finalizeOrder(order, request);
      return { chain: await client.getCertificate(done), key: key.toString() };
    });
  }

  async renewal(renewalId: string): Promise<{ from: number; to: number } | null> {
    const { renewalInfo } = await this.readDirectory();
    if (typeof renewalInfo !== 'string') return null;
    const { data, status } = await acme.axios.get<{ suggestedWindow?: { start?: string; end?: string } }>(`${renewalInfo}/${renewalId}`);
    const [from, to] = [Date.parse(data?.suggestedWindow?.start ?? ''), Date.parse(data?.suggestedWindow?.end ?? '')];
    return status === 200 && Number.isFinite(from) && Number.isFinite(to) && from <= to ? { from, to } : null;
  }

  private async prove(
    client: acme.Client,
    order: acme.Order,
    authorization: acme.Authorization,
    {
      name,
      kind,
      show,
      hide,
    }: { name: string; kind: Challenge['kind']; show: (one: Challenge) => Promise<void>; hide: (one: Challenge) => Promise<void> },
  ): Promise<void> {
    const challenge = authorization.challenges.find((one) => one.type === kind);
    if (!challenge) throw new AuthorityRefusal(`the authority offers no ${kind} for ${name}.`);
    const answer = await client.getChallengeKeyAuthorization(challenge);
    const shown: Challenge = kind === 'http-01' ? { kind, name, token: challenge.token, answer } : { kind, name, value: answer };
    await show(shown);
    try {
      await client.completeChallenge(challenge);
      await client.waitForValidStatus(challenge).catch(async (error: unknown) => {
        // What it saw stands at the challenge (RFC 8555 §8).
        const [seen] = (await client.getAuthorizations(order))
          .flatMap((one) => one.challenges)
          .flatMap((one) => (one as { error?: { detail?: string } }).error?.detail ?? []);
        throw seen === undefined ? error : new AuthorityRefusal(`the authority could not see that it is ours: ${seen}`);
      });
    } finally {
      await hide(shown);
    }
  }

  private client({ url, key }: AuthorityLogin): acme.Client {
    const { binding } = this.settings;
    return new acme.Client({
      directoryUrl: this.directory,
      accountKey: key,
      ...(url === '' ? {} : { accountUrl: url }),
      ...(binding ? { externalAccountBinding: { kid: binding.id, hmacKey: readFileSync(binding.keyFile, 'utf8').trim() } } : {}),
      ...POLLS,
    });
  }

  private async readDirectory(): Promise<{ renewalInfo?: unknown; meta?: { caaIdentities?: unknown[] } }> {
    return this.asked(async () => {
      const { data, status } = await acme.axios.get(this.directory);
      if (status !== 200 || typeof data !== 'object') throw new Error(`its directory can’t be read (${status})`);
      return data;
    });
  }

  /** What goes wrong is told in one sentence, with the time that the authority asks for. */
  private async asked<Value>(work: () => Promise<Value>): Promise<Value> {
    waits.delete(this.origin);
    try {
      return await work();
    } catch (error) {
      if (error instanceof AuthorityRefusal) throw error;
      const code = (error as NodeJS.ErrnoException).code;
      const text = code === undefined ? (error as Error).message : `${this.origin} can’t be reached (${code})`;
      throw new AuthorityRefusal(`${text.trim().replace(/\.?$/, '.')}`, waits.get(this.origin) ?? null);
    }
  }
}
