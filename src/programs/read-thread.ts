import { readWork } from '../store/read-work.ts';
import { answerCalls } from '../threads/answering.ts';

/** A thread that reads what takes long. */
answerCalls(readWork, () => true);
