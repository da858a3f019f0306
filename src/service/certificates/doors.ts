/** What has to be shown so that an authority believes that a name is ours (RFC 8555 §8). */
export type Challenge =
  | { kind: 'http-01'; name: string; token: string; answer: string }
  /** A TXT record at `_acme-challenge.` before the name. */
  | { kind: 'dns-01'; name: string; value: string };

export interface OrderedCertificate {
  /** PEM, with its chain. */
  chain: string;
  /** PEM. */
  key: string;
}

/** What an authority knows this host by. */
export interface AuthorityLogin {
  url: string;
  /** PEM. */
  key: string;
}

/** An authority that gives certificates by RFC 8555. */
export interface AuthorityDoor {
  /** Its address, by which its account is kept. */
  readonly directory: string;
  /** Names that CAA records know it by. */
  names(): Promise<string[]>;
  /** Opens an account, or finds the one of that key. */
  account(known: AuthorityLogin | null): Promise<AuthorityLogin>;
  /** Orders one certificate for a name. Throws AuthorityRefusal. */
  order(
    login: AuthorityLogin,
    name: string,
    kind: Challenge['kind'],
    show: (challenge: Challenge) => Promise<void>,
    hide: (challenge: Challenge) => Promise<void>,
  ): Promise<OrderedCertificate>;
  /** When it proposes to renew (RFC 9773); null where it does not say. */
  renewal(renewalId: string): Promise<{ from: number; to: number } | null>;
}

/** An authority did not give a certificate: one sentence, and how long it does not want to be asked again. */
export class AuthorityRefusal extends Error {
  constructor(
    text: string,
    readonly retryAfterMs: number | null = null,
  ) {
    super(text);
  }
}

/** What a port shows to who asks for a name, or why it shows nothing. */
export type Probed = { kind: 'shown'; pem: string } | { kind: 'failed'; reason: string };
export type ProbeServer = (port: TlsPort, name: string) => Promise<Probed>;

/** A port of this host that speaks TLS, at once or when it is asked to. */
export interface TlsPort {
  service: string;
  address: string;
  port: number;
  /** Whether connections begin with a PROXY protocol header. */
  proxy: boolean;
}
