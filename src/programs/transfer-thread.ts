import { workerData } from 'node:worker_threads';
import { carry } from '../compose/carry.ts';
import { saysHowItEnded, sinkOfService, type TransferWork } from '../store/transfer/thread.ts';

/** A thread of the service that carries mail: it reads much of what others wrote, and waits for disks and for other servers. */
saysHowItEnded(carry(workerData as TransferWork, sinkOfService()));
