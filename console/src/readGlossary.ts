/** Words and meanings of the first table of a Markdown page: `| **word**, **other** (also) | meaning |`. */
export function readGlossary(page: string): ReadonlyMap<string, string> {
  const found = new Map<string, string>();
  for (const [, words, meaning] of page.matchAll(/^\| (\*\*.+?) \| (.+) \|$/gm)) {
    const plain = meaning!.replaceAll("`", "");
    for (const [, word] of words!.matchAll(/\*\*(.+?)\*\*/g)) found.set(word!, plain);
    for (const [, word] of words!.matchAll(/\(([^)]+)\)/g)) found.set(word!, plain);
  }
  return found;
}
