import type { z } from 'zod';
import { cursorText, type Place, readCursor } from '../core/cursor.ts';
import type { Identity } from '../service/access/accounts.ts';
import type { ServiceContext } from '../service/app/context.ts';
import { type Asked, type Listed, listed, type Orders } from '../service/base/listed.ts';
import { badInput } from '../service/base/problem.ts';
import { listOf, listQuery } from './base-schemas.ts';

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
  /** What it changes, as it is: for If-Match. */
  current: Current | null;
  again: Again | null;
}

/** What a request with a key comes to when it is repeated, where that is not just its first answer. */
export interface Again<Result = never> {
  /** Whether that answer says, or has since come to mean, that nothing was done: then the key is free. */
  isRefusal?: (input: Pick<CallInput<never, never>, 'context'>, answer: Result) => boolean;
  /** What is answered now. Secrets that count no more are not shown. */
  answer?: (input: Pick<CallInput<never, never>, 'context' | 'identity' | 'param'>, answer: Result) => unknown;
}

/** Reads the resource that a call changes. */
export interface Current {
  /** Resources of one kind are told apart by their names. */
  kind: string;
  result: z.ZodType;
  read: (input: CallInput<never, never>) => unknown;
}

/** What a use case knows of an answer; revisions are added at the edge. */
export type Unrevised<T> = T extends { revision: string }
  ? Omit<T, 'revision'>
  : T extends readonly (infer Row)[]
    ? readonly Unrevised<Row>[]
    : T extends object
      ? { [Name in keyof T]: Unrevised<T[Name]> }
      : T;

/** Ties a call's input and result types to its schemas. */
export function call<
  Result extends z.ZodType,
  Body extends z.ZodType = z.ZodType<undefined>,
  Query extends z.ZodType = z.ZodType<undefined>,
>(
  method: Call['method'],
  path: string,
  summary: string,
  shapes: { body?: Body; query?: Query; result: Result; current?: Current; again?: Again<z.output<Result>> },
  handle: (input: CallInput<z.output<Body>, z.output<Query>>) => Unrevised<z.output<Result>> | Promise<Unrevised<z.output<Result>>>,
): Call {
  return {
    method,
    path,
    summary,
    body: shapes.body ?? null,
    query: shapes.query ?? null,
    result: shapes.result,
    handle: handle as Call['handle'],
    current: shapes.current ?? null,
    again: shapes.again ?? null,
  };
}

export const done = async (work: Promise<unknown>): Promise<Record<string, never>> => {
  await work;
  return {};
};

type Path = Pick<CallInput<never, never>, 'context' | 'identity' | 'param'>;

/** Reads a page behind the cursor that was asked for, and gives the cursor of the next one. */
export async function paged<
  Query extends { sort: string; reverse: boolean; after?: string | undefined },
  Found extends { next: Place | null },
>(
  query: Query,
  read: (asked: Omit<Query, 'after'> & { after: Place | null }) => Found | Promise<Found>,
): Promise<Omit<Found, 'next'> & { next: string | null }> {
  const order = `${query.sort}${query.reverse ? ' DESC' : ''}`;
  const place = query.after === undefined ? null : readCursor(order, query.after);
  if (query.after !== undefined && place === null)
    throw badInput(
      'after',
      'This cursor does not belong to this list in this order.',
      'Pass the “next” of the previous page, with the same sort and reverse.',
    );
  const found = await read({ ...query, after: place });
  return { ...found, next: found.next === null ? null : cursorText(order, found.next) };
}

/** A list that is read by pages. */
export const pages = <Row extends z.ZodType, const Names extends readonly [string, ...string[]]>(
  path: string,
  summary: string,
  row: Row,
  orders: Names,
  read: (input: Path, asked: Asked<Names[number]>) => Listed<Unrevised<z.output<Row>>> | Promise<Listed<Unrevised<z.output<Row>>>>,
): Call => ({
  method: 'get',
  path,
  summary,
  body: null,
  query: listQuery(orders),
  result: listOf(row),
  current: null,
  again: null,
  handle: (input) => paged(input.query as Asked<Names[number]> & { after?: string }, (asked) => read(input, asked)),
});

/** A list that is short enough to be had whole: `words` are what a search looks at, `keys` what it is put in order by. */
export const shortList = <Row extends z.ZodType, const Names extends readonly [string, ...string[]]>(
  path: string,
  summary: string,
  row: Row,
  orders: Names,
  words: (row: Unrevised<z.output<Row>>) => string,
  keys: Orders<Unrevised<z.output<Row>>, Names[number]>,
  read: (input: Path) => readonly Unrevised<z.output<Row>>[] | Promise<readonly Unrevised<z.output<Row>>[]>,
): Call => pages(path, summary, row, orders, async (input, asked) => listed(await read(input), asked, words, keys));
