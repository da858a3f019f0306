/** What is known of a message beside its text. */
export interface TrialFacts {
  /** The server that brought it; null where nobody knows from which address it will come. */
  client: { address: string; greeting: string } | null;
  /** MAIL FROM; empty for the null sender. */
  sender: string;
  /** Null where that is seen later. */
  tls: boolean | null;
  /** When it came, in ms. */
  at: number;
  /** Of its author, where that domain is here. */
  domainHere: string | null;
}
