import { orderedInPieces, Turns } from '../pieces.ts';
import { baseSubject, type Sortable, sentAt } from './sorting.ts';

/** A message, or one that is only spoken of, with what answers it. */
interface Node {
  message: Sortable | null;
  parent: Node | null;
  children: Set<Node>;
  /** The earliest message of what has none itself, once it is known. */
  first: Sortable | null;
}

const nodeOf = (message: Sortable | null): Node => ({ message, parent: null, children: new Set(), first: message });

/**
 * Threads as THREAD gives them (RFC 5256 §4): numbers, and lists of what branches off. In turns: a folder may have a hundred thousand messages, and
 * strangers write what refers to what.
 */
export async function threadText(
  all: readonly Sortable[],
  how: 'REFERENCES' | 'ORDEREDSUBJECT',
  numberOf: (one: Sortable) => number,
  turns = new Turns(),
): Promise<string> {
  const roots = how === 'REFERENCES' ? await byReferences(all, turns) : await bySubject(all, turns);
  const said: string[] = [];
  for (const root of roots) {
    said.push('(');
    await sayNode(root, numberOf, said, turns);
    said.push(')');
  }
  return said.join('');
}

/** One line of answers goes on in one list; where several answer, each has its own. Without recursion: a thread may be as long as a folder. */
async function sayNode(root: Node, numberOf: (one: Sortable) => number, said: string[], turns: Turns): Promise<void> {
  const open: (Node | '(' | ')')[] = [root];
  let isAfterNumber = false;
  for (let next = open.pop(); next; next = open.pop()) {
    if (turns.isOver()) await turns.next();
    if (typeof next === 'string') {
      if (next === '(' && isAfterNumber) said.push(' ');
      said.push(next);
      isAfterNumber = false;
      continue;
    }
    if (next.message) {
      if (isAfterNumber) said.push(' ');
      said.push(String(numberOf(next.message)));
      isAfterNumber = true;
    }
    const children = [...next.children];
    if (children.length === 1) open.push(children[0] as Node);
    else for (const child of children.reverse()) open.push(')', child, '(');
  }
}

async function bySubject(all: readonly Sortable[], turns: Turns): Promise<Node[]> {
  const threads = new Map<string, Node>();
  for (const message of await orderedInPieces(all, bySent)) {
    if (turns.isOver(10)) await turns.next();
    const subject = baseSubject(message.keys.subject).text.toUpperCase();
    const node = nodeOf(message);
    const root = threads.get(subject);
    if (root) root.children.add(node);
    else threads.set(subject, node);
  }
  return orderedInPieces([...threads.values()], byNode);
}

/** RFC 5256 §3, REFERENCES: the steps by their numbers there. */
async function byReferences(all: readonly Sortable[], turns: Turns): Promise<Node[]> {
  const known = new Map<string, Node>();
  const nodes: Node[] = [];
  // (1) Each message below the last that it refers to.
  for (const message of all) {
    const id = message.keys.messageId;
    let node = id === null ? undefined : known.get(id);
    // Two messages of one name are two all the same.
    if (!node || node.message) {
      const isSecond = node !== undefined;
      node = nodeOf(null);
      if (id !== null && !isSecond) known.set(id, node);
    }
    node.message = message;
    node.first = message;
    nodes.push(node);
    let parent: Node | null = null;
    for (const reference of message.keys.references) {
      const next: Node = known.get(reference) ?? nodeOf(null);
      known.set(reference, next);
      if (parent && !next.parent && next !== parent && !(await isBelow(parent, next, turns))) adopt(parent, next);
      parent = next;
    }
    if (parent && parent !== node && !(await isBelow(parent, node, turns))) {
      node.parent?.children.delete(node);
      adopt(parent, node);
    }
    if (turns.isOver(10)) await turns.next();
  }
  // (2), (3) What is only spoken of gives its place to what it holds.
  const roots = await pruned(new Set([...nodes, ...known.values()].filter((one) => one.parent === null)), turns);
  // (4), (5) In order, and threads of one subject are one.
  for (const root of roots) await findFirst(root, turns);
  const joined = await joinedBySubject(await orderedInPieces(roots, byNode), turns);
  for (const root of joined) {
    await findFirst(root, turns);
    await sortBelow(root, turns);
  }
  return orderedInPieces(joined, byNode);
}

function adopt(parent: Node, child: Node): void {
  child.parent = parent;
  parent.children.add(child);
}

/** Whether the first is below the second, in so many steps as a thread is deep at most. */
async function isBelow(node: Node, above: Node, turns: Turns): Promise<boolean> {
  if (node === above) return true;
  // What nothing answers has nothing below it: so a long line of answers is not walked up for each of them.
  if (above.children.size === 0) return false;
  for (let at = node.parent; at; at = at.parent) {
    if (at === above) return true;
    if (turns.isOver()) await turns.next();
  }
  return false;
}

async function pruned(roots: Iterable<Node>, turns: Turns): Promise<Node[]> {
  const kept: Node[] = [];
  const open = [...roots].map((node) => ({ node, parent: null as Node | null }));
  for (let at = 0; at < open.length; at += 1) {
    if (turns.isOver()) await turns.next();
    const { node, parent } = open[at] as { node: Node; parent: Node | null };
    const below = [...node.children];
    node.children.clear();
    // An empty one at the top stays when it holds several together (§3 (3)).
    const stays = node.message !== null || (parent === null && below.length > 1);
    if (stays) {
      node.parent = parent;
      if (parent) parent.children.add(node);
      else kept.push(node);
    }
    for (const child of below) open.push({ node: child, parent: stays ? node : parent });
  }
  return kept.filter((one) => one.message !== null || one.children.size > 0);
}

/** RFC 5256 §3, REFERENCES (5). */
async function joinedBySubject(roots: readonly Node[], turns: Turns): Promise<Node[]> {
  const subjects = new Map<Node, ReturnType<typeof baseSubject>>();
  // (B) What begins each subject: the original, though an answer may be older by its date.
  const bySubjectOf = new Map<string, Node>();
  for (const root of roots) {
    if (turns.isOver(10)) await turns.next();
    const subject = baseSubject(root.first?.keys.subject ?? '');
    subject.text = subject.text.toUpperCase();
    subjects.set(root, subject);
    if (subject.text === '') continue;
    const known = bySubjectOf.get(subject.text);
    const isBetter = known?.message && (root.message === null || (subjects.get(known)?.isReply && !subject.isReply));
    if (!known || isBetter) bySubjectOf.set(subject.text, root);
  }
  // (C) The others come below it, or beside it below one that is only thought of.
  const joined = new Map<Node, Node>(roots.map((root) => [root, root]));
  for (const root of roots) {
    if (turns.isOver(10)) await turns.next();
    const { text, isReply } = subjects.get(root) as ReturnType<typeof baseSubject>;
    const first = bySubjectOf.get(text);
    if (text === '' || !first || first === root) continue;
    joined.delete(root);
    if (first.message === null) {
      for (const child of root.message === null ? [...root.children] : [root]) adopt(first, child);
    } else if (isReply && !subjects.get(first)?.isReply) adopt(first, root);
    else {
      const both = nodeOf(null);
      joined.set(first, both);
      bySubjectOf.set(text, both);
      adopt(both, first);
      adopt(both, root);
    }
  }
  return [...joined.values()];
}

/** The earliest of what is directly below one that is only thought of. */
async function findFirst(root: Node, turns: Turns): Promise<void> {
  root.first = root.message;
  if (root.message) return;
  for (const { first } of root.children) {
    if (first && (!root.first || bySent(first, root.first) < 0)) root.first = first;
    if (turns.isOver()) await turns.next();
  }
}

async function sortBelow(root: Node, turns: Turns): Promise<void> {
  const open = [root];
  for (let node = open.pop(); node; node = open.pop()) {
    if (turns.isOver()) await turns.next();
    if (node.children.size > 1) node.children = new Set(await orderedInPieces([...node.children], byNode));
    for (const child of node.children) open.push(child);
  }
}

const bySent = (one: Sortable, other: Sortable): number => sentAt(one) - sentAt(other) || one.sequence - other.sequence;
const byNode = ({ first: one }: Node, { first: other }: Node): number =>
  one && other ? bySent(one, other) : Number(one === null) - Number(other === null);
