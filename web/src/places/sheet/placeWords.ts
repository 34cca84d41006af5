/** What the parts of a sheet are called by people, by the beginning of their paths. */
const parts: [RegExp, (n: string) => string][] = [
  [/^watch\.lasts\.that/, () => 'what lasts'],
  [/^watch\.when/, () => 'Watch'],
  [/^watch/, () => 'Watch'],
  [/^keep/, () => 'Keep'],
  [/^gather\[(\d+)\]/, (n) => `look-up ${n}`],
  [/^ask\[(\d+)\]/, (n) => `question ${n}`],
  [/^route\.rows\[(\d+)\]/, (n) => `row ${n}`],
  [/^route\.otherwise/, () => 'Otherwise'],
  [/^follow\[(\d+)\]/, (n) => `step ${n}`],
  [/^messages\.([^.[]+)/, (n) => `message ${n}`],
];

/** A part of a sheet as people call it: gather[0].find is look-up 1, keep.all[1].any[0] is condition 2.1 of Keep. */
export function placeWords(path: string): string {
  for (const [begins, words] of parts) {
    const found = begins.exec(path);
    if (!found) continue;
    const n = found[1] ?? '';
    const place = words(/^\d+$/.test(n) ? String(Number(n) + 1) : n);
    const inside = [...path.slice(found[0].length).matchAll(/\.(?:all|any|none)\[(\d+)\]/g)].map(
      (m) => Number(m[1]) + 1,
    );
    return inside.length ? `condition ${inside.join('.')} of ${place}` : place;
  }
  return path;
}

/** A condition as people call it: one that stands alone is the condition of its place. */
export function conditionWords(path: string): string {
  const words = placeWords(path);
  return words.startsWith('condition ') ? words : `the condition of ${words}`;
}

/** Where the posts of a message would go, each place once. */
export function postsWords(
  proof: { posts?: { message: string; to: string }[] | null } | undefined,
  name: string,
): string {
  const often = new Map<string, number>();
  for (const p of proof?.posts ?? []) if (p.message === name) often.set(p.to, (often.get(p.to) ?? 0) + 1);
  const to = [...often].map(([place, n]) => (n > 1 ? `${place} (${n} posts)` : place));
  return to.length ? `Would go to ${to.join(' and ')}.` : 'Would not be sent for this arrival.';
}
