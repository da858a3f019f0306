import { checkWork } from '../dns/check-threads.ts';
import { answerCalls } from '../threads/answering.ts';

/** A thread that asks name servers about many domains and judges what they say. */
answerCalls(checkWork);
