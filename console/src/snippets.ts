// The same call as curl, as the command and in Python. The token is never written out: it is read from the environment.
// Pictures stand in files beside, by the names that they have there.
import type { Field } from "./api/client";
import { bodyOf, jsonOf, type Entries } from "./form";

const shell = (text: string): string => `'${text.replaceAll("'", `'\\''`)}'`;

/** A JSON text as a Python literal. Strings are the same in both; only true, false and null are said otherwise. */
function python(json: string): string {
  const words: Record<string, string> = { true: "True", false: "False", null: "None" };
  return json.replace(/"(?:[^"\\]|\\.)*"|true|false|null/g, (found) => words[found] ?? found);
}

export type Snippet = { name: string; text: string };
export type Asked = {
  inputs: Field[];
  options: Field[];
  entries: Entries;
  files: Record<string, string>;
  headers?: Record<string, string>;
};

const MARK = "\u0001";

export function snippets(address: string, endpoint: string, { inputs, options, entries, files, headers = {} }: Asked): Snippet[] {
  const extra = Object.entries(headers);
  const pictures = inputs.filter((field) => field.kind === "image" && entries[field.name] != null);
  const nameOf = (field: Field): string => files[field.name] ?? `${field.name}.png`;
  const marked = bodyOf(inputs, options, entries, (field, entry) =>
    pictures.includes(field) ? `"${MARK}${nameOf(field)}${MARK}"` : jsonOf(field, entry),
  );
  const filled = (text: string, put: (name: string) => string): string =>
    text
      .split(MARK)
      .map((part, at) => (at % 2 ? put(part) : part))
      .join("");
  const row = bodyOf(inputs, [], entries, (field, entry) => (pictures.includes(field) ? null : jsonOf(field, entry)));
  const words = [
    `lamppost ask ${endpoint} --address ${address}`,
    ...(row === "{}" ? [] : [`--row ${shell(row)}`]),
    ...pictures.map((field) => `--image ${shell(`${field.name}=${nameOf(field)}`)}`),
    ...options
      .filter((field) => jsonOf(field, entries[field.name] ?? null) !== JSON.stringify(field.default ?? null))
      .map((field) => `--option ${shell(`${field.name}=${jsonOf(field, entries[field.name] ?? null)}`)}`),
    ...extra.map(([name, value]) => `--header ${shell(`${name}=${value}`)}`),
  ];
  const unquoted = marked.replaceAll(`"${MARK}`, MARK).replaceAll(`${MARK}"`, MARK);
  const bare = python(unquoted);
  const body = filled(bare, (name) => `Path("${name}").read_bytes()`);
  return [
    {
      name: "curl",
      text: [
        `curl ${address}/predict/${endpoint} \\`,
        `  -H "Authorization: Bearer $LAMPPOST_TOKEN" \\`,
        `  -H "Content-Type: application/json" \\`,
        ...extra.map(([name, value]) => `  -H ${shell(`${name}: ${value}`)} \\`),
        `  -d ${filled(shell(marked), (name) => `'"$(base64 -w0 ${shell(name)})"'`)}`,
      ].join("\n"),
    },
    { name: "Command", text: words.join(" \\\n  ") },
    {
      name: "Python",
      text: [
        ...(pictures.length ? ["from pathlib import Path", ""] : []),
        "import lamppost",
        "",
        `with lamppost.Client("${address}") as client:`,
        `    answer = client.predict("${endpoint}", ${body}${extra.length ? `, headers=${JSON.stringify(headers)}` : ""})`,
        "print(answer.version, answer.answer)",
      ].join("\n"),
    },
    {
      name: "requests",
      text: [
        "import os",
        ...(pictures.length ? ["from base64 import b64encode", "from pathlib import Path"] : []),
        "",
        "import requests",
        "",
        `answer = requests.post(`,
        `    "${address}/predict/${endpoint}",`,
        `    headers={"Authorization": f"Bearer {os.environ['LAMPPOST_TOKEN']}"${extra.map(([name, value]) => `, "${name}": ${JSON.stringify(value)}`).join("")}},`,
        `    json=${filled(bare, (name) => `b64encode(Path("${name}").read_bytes()).decode()`)},`,
        `    timeout=30,`,
        ")",
        "answer.raise_for_status()",
        "print(answer.json())",
      ].join("\n"),
    },
    {
      name: "fetch",
      text: [
        ...(pictures.length ? ['import { readFileSync } from "node:fs";', ""] : []),
        `const answer = await fetch("${address}/predict/${endpoint}", {`,
        '  method: "POST",',
        '  headers: { Authorization: `Bearer ${process.env.LAMPPOST_TOKEN}`, "Content-Type": "application/json"' +
          `${extra.map(([name, value]) => `, ${JSON.stringify(name)}: ${JSON.stringify(value)}`).join("")} },`,
        `  body: JSON.stringify(${filled(unquoted, (name) => `readFileSync("${name}", "base64")`)}),`,
        "});",
        "if (!answer.ok) throw new Error(await answer.text());",
        "console.log(await answer.json());",
      ].join("\n"),
    },
  ];
}
