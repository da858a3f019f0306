import type { AccessPortSettings } from '../access/access-house.ts';

/** Whoever speaks to mail programs: this process, or others. */
export interface AccessSide {
  /** Processes of its own, with how many conversations each has open; none when it is this one. */
  readonly processes: { pid: number; open: number }[];
  /** Resolves with the number of the port. Throws ListenError. */
  listen(port: AccessPortSettings): Promise<number>;
  /** Another certificate is shown from the next connection on. */
  certificateChanged(): void;
  stopAccepting(): void;
  quiet(): Promise<void>;
  destroyAll(): void;
}
