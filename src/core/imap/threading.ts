import { baseSubject, type Sortable, sentAt } from './sorting.ts';

/** A message, or one that is only spoken of, with what answers it. */
interface Node {
  message: Sortable | null;
  parent: Node | null;
  children: Node[];
}

/** Threads as THREAD gives them (RFC 5256 §4): numbers, and lists of what branches off. */
export function threadText(all: readonly Sortable[], how: 'REFERENCES' | 'ORDEREDSUBJECT', numberOf: (one: Sortable) => number): string {
  const roots = how === 'REFERENCES' ? byReferences(all) : bySubject(all);
  return roots.map((root) => `(${nodeText(root, numberOf)})`).join('');
}

/** One line of answers goes on in one list; where several answer, each has its own. Without recursion: a thread may be as long as a folder. */
function nodeText(root: Node, numberOf: (one: Sortable) => number): string {
  const said: string[] = [];
  const add = (text: string): void => {
    // Between two numbers, and between a number and a list.
    if (text !== ')' && /\d$/.test(said.at(-1) ?? '')) said.push(' ');
    said.push(text);
  };
  const open: (Node | '(' | ')')[] = [root];
  for (let next = open.pop(); next; next = open.pop()) {
    if (typeof next === 'string') {
      add(next);
      continue;
    }
    if (next.message) add(String(numberOf(next.message)));
    const { children } = next;
    if (children.length === 1) open.push(children[0] as Node);
    else for (const child of [...children].reverse()) open.push(')', child, '(');
  }
  return said.join('');
}

function bySubject(all: readonly Sortable[]): Node[] {
  const threads = new Map<string, Node>();
  for (const message of [...all].sort(bySent)) {
    const subject = baseSubject(message.keys.subject).text.toUpperCase();
    const node = { message, parent: null, children: [] };
    const root = threads.get(subject);
    if (root) root.children.push(node);
    else threads.set(subject, node);
  }
  return [...threads.values()].sort(byNode);
}

/** RFC 5256 §3, REFERENCES: the steps by their numbers there. */
function byReferences(all: readonly Sortable[]): Node[] {
  const known = new Map<string, Node>();
  const nodes: Node[] = [];
  // (1) Each message below the last that it refers to.
  for (const message of all) {
    const id = message.keys.messageId;
    let node = id === null ? undefined : known.get(id);
    // Two messages of one name are two all the same.
    if (!node || node.message) {
      const isSecond = node !== undefined;
      node = { message: null, parent: null, children: [] };
      if (id !== null && !isSecond) known.set(id, node);
    }
    node.message = message;
    nodes.push(node);
    let parent: Node | null = null;
    for (const reference of message.keys.references) {
      const next: Node = known.get(reference) ?? { message: null, parent: null, children: [] };
      known.set(reference, next);
      if (parent && !next.parent && next !== parent && !isBelow(parent, next)) adopt(parent, next);
      parent = next;
    }
    if (parent && parent !== node && !isBelow(parent, node)) {
      if (node.parent) node.parent.children.splice(node.parent.children.indexOf(node), 1);
      node.parent = null;
      adopt(parent, node);
    }
  }
  // (2), (3) What is only spoken of gives its place to what it holds.
  const roots = pruned(new Set([...nodes, ...known.values()].filter((one) => one.parent === null)));
  // (5) Threads of one subject are one.
  return joinedBySubject(roots.sort(byNode)).sort(byNode).map(sortedBelow);
}

function adopt(parent: Node, child: Node): void {
  child.parent = parent;
  parent.children.push(child);
}

/** Whether the first is below the second, in so many steps as a thread is deep at most. */
function isBelow(node: Node, above: Node): boolean {
  for (let at: Node | null = node; at; at = at.parent) if (at === above) return true;
  return false;
}

function pruned(roots: Iterable<Node>): Node[] {
  const kept: Node[] = [];
  const open = [...roots].map((node) => ({ node, parent: null as Node | null }));
  for (let at = 0; at < open.length; at += 1) {
    const { node, parent } = open[at] as { node: Node; parent: Node | null };
    const below = node.children;
    node.children = [];
    // An empty one at the top stays when it holds several together (§3 (3)).
    const stays = node.message !== null || (parent === null && below.length > 1);
    if (stays) {
      node.parent = parent;
      if (parent) parent.children.push(node);
      else kept.push(node);
    }
    for (const child of below) open.push({ node: child, parent: stays ? node : parent });
  }
  return kept.filter((one) => one.message !== null || one.children.length > 0);
}

function joinedBySubject(roots: readonly Node[]): Node[] {
  const bySubjectOf = new Map<string, Node>();
  const joined: Node[] = [];
  for (const root of roots) {
    const { text, isReply } = baseSubject(firstOf(root)?.keys.subject ?? '');
    const subject = text.toUpperCase();
    const first = subject === '' ? undefined : bySubjectOf.get(subject);
    if (!first) {
      if (subject !== '') bySubjectOf.set(subject, root);
      joined.push(root);
    } else if (first.message === null) {
      for (const child of root.message === null ? root.children : [root]) adopt(first, child);
    } else if (isReply && !baseSubject(first.message.keys.subject).isReply) adopt(first, root);
    else {
      // Neither answers the other: both lie below one that is only thought of.
      const both: Node = { message: null, parent: null, children: [] };
      joined[joined.indexOf(first)] = both;
      bySubjectOf.set(subject, both);
      adopt(both, first);
      for (const child of root.message === null ? root.children : [root]) adopt(both, child);
    }
  }
  return joined;
}

function sortedBelow(root: Node): Node {
  const open = [root];
  for (let node = open.pop(); node; node = open.pop()) {
    node.children.sort(byNode);
    open.push(...node.children);
  }
  return root;
}

const firstOf = (node: Node): Sortable | null => node.message ?? [...node.children].sort(byNode)[0]?.message ?? null;
const bySent = (one: Sortable, other: Sortable): number => sentAt(one) - sentAt(other) || one.sequence - other.sequence;
const byNode = (one: Node, other: Node): number => {
  const [first, second] = [firstOf(one), firstOf(other)];
  return first && second ? bySent(first, second) : Number(first === null) - Number(second === null);
};
