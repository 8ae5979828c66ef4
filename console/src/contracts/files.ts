// Files that are chosen to be published: which of them is the contract, and how it calls the others.

export type Chosen = { file: string; source: string; files: Record<string, string> };

// chosenOf sorts texts by file name into a contract and what it includes. The error says what is missing.
export function chosenOf(texts: Record<string, string>): Chosen {
  const main = Object.keys(texts).filter((name) => /^\s*contract\s+\w+/m.test(texts[name] ?? ""));
  if (main.length !== 1)
    throw new Error(
      main.length === 0
        ? "None of the files is a contract: it begins with `contract NAME`."
        : `Choose one contract and what it includes; ${main.join(" and ")} are contracts both.`,
    );
  const file = main[0] as string;
  const others = Object.entries(texts).filter(([name]) => name !== file);
  const quoted = Object.values(texts).flatMap((text) => [...text.matchAll(/"([^"\n]+)"/g)].map((m) => m[1] as string));
  const files: Record<string, string> = {};
  for (const [name, text] of others) {
    const called = quoted.find((path) => path === name || path.endsWith(`/${name}`));
    files[called ?? name] = text;
  }
  return { file, source: texts[file] ?? "", files };
}

// read reads files that were chosen, by their names.
export async function read(list: FileList): Promise<Record<string, string>> {
  const texts = await Promise.all([...list].map(async (f) => [f.name, await f.text()] as const));
  return Object.fromEntries(texts);
}
