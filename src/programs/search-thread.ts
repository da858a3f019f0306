import { searchWork } from '../store/search-work.ts';
import { answerCalls } from '../threads/answering.ts';

/** A thread that writes the index of messages. */
answerCalls(searchWork);
