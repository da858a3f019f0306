import { QueryClient, useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useEffect, useRef } from 'react';
import type { Session } from '../src/api/access-schemas.ts';
import type { ProblemDocument } from '../src/api/schemas.ts';
import { harmless } from './harmless.ts';
import { SharedNews } from './news.ts';

/** A call that the service refused, or that did not reach it. */
export class CallProblem extends Error {
  constructor(
    readonly detail: string,
    readonly remedy: string,
    readonly code: string,
    readonly field: string | null,
  ) {
    super(detail);
  }
}

/** The value that proves to the service that a change comes from these pages. */
let csrfToken = '';
export const keepGuard = (session: Session): void => {
  csrfToken = session.csrfToken;
};

/** One call. A change of what has a revision names the one that was shown, so that nobody’s change is written over unseen. */
export async function call<T>(
  method: 'GET' | 'POST' | 'PATCH' | 'PUT' | 'DELETE',
  path: string,
  body?: object,
  revision?: string,
): Promise<T> {
  let response: Response;
  try {
    response = await fetch(`/api/v1${path}`, {
      method,
      headers: {
        'x-tenedor-csrf': csrfToken,
        ...(body ? { 'content-type': 'application/json' } : {}),
        ...(revision === undefined ? {} : { 'if-match': `"${revision}"` }),
      },
      ...(body ? { body: JSON.stringify(body) } : {}),
    });
  } catch {
    throw new CallProblem('The service does not answer.', 'It may be restarting. This page retries automatically.', 'unreachable', null);
  }
  const data = await response
    .text()
    .then((text) => JSON.parse(text, harmless))
    .catch(() => null);
  if (response.ok) return data as T;
  const problem = data as Partial<ProblemDocument> | null;
  throw new CallProblem(
    problem?.detail ?? `The service answered ${response.status}.`,
    problem?.remedy ?? 'See its log.',
    problem?.code ?? 'fault',
    problem?.field ?? null,
  );
}

export const queryClient = new QueryClient({
  defaultOptions: {
    queries: {
      retry: (failures, error) => error instanceof CallProblem && error.code === 'unreachable' && failures < 2,
      staleTime: 2000,
      refetchOnWindowFocus: true,
    },
  },
});

/** What a path answers, kept fresh every `everyMs`. */
export function useCall<T>(path: string, options: { everyMs?: number; enabled?: boolean } = {}) {
  return useQuery<T, CallProblem>({
    queryKey: [path],
    queryFn: () => call<T>('GET', path),
    refetchInterval: options.everyMs ?? false,
    enabled: options.enabled ?? true,
    placeholderData: (before) => before,
  });
}

/** As many rows as one call gives. */
const PAGE = 500;

/** The whole of a list, for where one of it is chosen. */
export function useAll<Row>(path: string, options: { everyMs?: number } = {}) {
  return useQuery<Row[], CallProblem>({
    queryKey: ['all', path],
    queryFn: async () => {
      const all: Row[] = [];
      let after = '';
      for (;;) {
        const { rows, next } = await call<{ rows: Row[]; next: string | null }>('GET', `${path}?limit=${PAGE}${after}`);
        all.push(...rows);
        if (next === null) return all;
        after = `&after=${next}`;
      }
    },
    refetchInterval: options.everyMs ?? false,
    placeholderData: (before) => before,
  });
}

/** A change; everything that is shown is asked for again afterwards. */
export function useChange<T, Input = void>(act: (input: Input) => Promise<T>, done?: (result: T) => void) {
  const client = useQueryClient();
  return useMutation<T, CallProblem, Input>({
    mutationFn: act,
    onSuccess: async (result) => {
      await client.invalidateQueries();
      done?.(result);
    },
    onError: (error) => {
      if (error.code === 'changed-meanwhile') return client.invalidateQueries();
    },
  });
}

const shared = new SharedNews();

/** Hears of news of one kind as they happen, over one connection for all tabs. */
export function useNews(kind: string, listener: (news: Record<string, unknown>) => void): void {
  const latest = useRef(listener);
  latest.current = listener;
  useEffect(
    () =>
      shared.listen((news) => {
        if (news.kind === kind) latest.current(news.data);
      }),
    [kind],
  );
}

export const part = (text: string): string => encodeURIComponent(text);
