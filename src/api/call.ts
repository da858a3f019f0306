import type { z } from 'zod';
import type { Identity } from '../service/accounts.ts';
import type { ServiceContext } from '../service/context.ts';

export interface CallInput<Body, Query> {
  context: ServiceContext;
  identity: Identity;
  /** The client's. */
  address: string;
  startedAt: number;
  /** A part of the path. */
  param: (name: string) => string;
  body: Body;
  query: Query;
}

export interface Call {
  method: 'get' | 'post' | 'patch' | 'put' | 'delete';
  path: string;
  summary: string;
  body: z.ZodType | null;
  query: z.ZodType | null;
  result: z.ZodType;
  handle: (input: CallInput<never, never>) => unknown;
}

/** Ties a call's input and result types to its schemas. */
export function call<
  Result extends z.ZodType,
  Body extends z.ZodType = z.ZodType<undefined>,
  Query extends z.ZodType = z.ZodType<undefined>,
>(
  method: Call['method'],
  path: string,
  summary: string,
  shapes: { body?: Body; query?: Query; result: Result },
  handle: (input: CallInput<z.output<Body>, z.output<Query>>) => z.output<Result> | Promise<z.output<Result>>,
): Call {
  return {
    method,
    path,
    summary,
    body: shapes.body ?? null,
    query: shapes.query ?? null,
    result: shapes.result,
    handle: handle as Call['handle'],
  };
}

export const done = async (work: Promise<unknown>): Promise<Record<string, never>> => {
  await work;
  return {};
};
