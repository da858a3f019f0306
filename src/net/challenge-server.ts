import type { RequestListener } from 'node:http';

const PATH = /^\/\.well-known\/acme-challenge\/([A-Za-z0-9_-]{1,200})$/;

/** Answers what an authority asks to see that a name is ours (RFC 8555 §8.3), and nothing else. */
export const answerChallenges =
  (answers: ReadonlyMap<string, string>): RequestListener =>
  (request, response) => {
    const token = PATH.exec(request.url ?? '')?.[1];
    const answer = token === undefined || request.method !== 'GET' ? undefined : answers.get(token);
    response.writeHead(answer === undefined ? 404 : 200, {
      'content-type': answer === undefined ? 'text/plain' : 'application/octet-stream',
      'cache-control': 'no-store',
    });
    response.end(answer ?? 'Nothing is served here.\n');
  };
