import { carry } from '../compose/carry.ts';
import { StoreError } from '../store/open-data.ts';
import { sinkOf, type TransferWork } from '../store/transfer/thread.ts';
import { answerCalls } from '../threads/answering.ts';

/** A thread that carries mail: it reads much of what others wrote, and waits for disks and for other servers. */
answerCalls(
  (_given: null, owner) => ({ answer: (work: TransferWork) => carry(work, sinkOf(owner)) }),
  (error) => error instanceof StoreError,
  (reason) => new StoreError(reason),
);
