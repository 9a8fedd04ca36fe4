/** Moving in the tree of a trace's spans, which are in order with their depth: parents before children. */
export interface Node {
  index: number;
  depth: number;
}

/** Rows that are seen while those in `closed` (their indices) hide what is beneath them. */
export function visible<T extends Node>(nodes: readonly T[], closed: ReadonlySet<number>): T[] {
  const shown: T[] = [];
  let hidden = Number.POSITIVE_INFINITY; // depth from which on rows are hidden
  for (const node of nodes) {
    if (node.depth > hidden) continue;
    hidden = closed.has(node.index) ? node.depth : Number.POSITIVE_INFINITY;
    shown.push(node);
  }
  return shown;
}

/** Where a key leads from a row of those that are seen; null if the key does not move. */
export function moved(nodes: readonly Node[], at: number, key: string): number | null {
  const last = nodes.length - 1;
  if (key === "ArrowDown") return Math.min(at + 1, last);
  if (key === "ArrowUp") return Math.max(at - 1, 0);
  if (key === "Home") return 0;
  if (key === "End") return last;
  if (key === "ArrowRight") return (nodes[at + 1]?.depth ?? 0) > (nodes[at]?.depth ?? 0) ? at + 1 : at;
  if (key !== "ArrowLeft") return null;
  const depth = nodes[at]?.depth ?? 0;
  for (let above = at - 1; above >= 0; above -= 1) if ((nodes[above]?.depth ?? 0) < depth) return above;
  return at;
}
