// The same call as curl, as the command and in Python. The token is never written out: it is read from the environment.

const shell = (text: string): string => `'${text.replaceAll("'", `'\\''`)}'`;

/** A JSON text as a Python literal. Strings are the same in both; only true, false and null are said otherwise. */
function python(json: string): string {
  const words: Record<string, string> = { true: "True", false: "False", null: "None" };
  return json.replace(/"(?:[^"\\]|\\.)*"|true|false|null/g, (found) => words[found] ?? found);
}

export type Snippet = { name: string; text: string };

/** @param body the row as JSON, on one line */
export function snippets(address: string, endpoint: string, body: string): Snippet[] {
  return [
    {
      name: "curl",
      text: [
        `curl ${address}/predict/${endpoint} \\`,
        `  -H "Authorization: Bearer $LAMPPOST_TOKEN" \\`,
        `  -H "Content-Type: application/json" \\`,
        `  -d ${shell(body)}`,
      ].join("\n"),
    },
    { name: "Command", text: `lamppost ask ${endpoint} --address ${address} \\\n  --row ${shell(body)}` },
    {
      name: "Python",
      text: [
        "import lamppost",
        "",
        `with lamppost.Client("${address}") as client:`,
        `    said = client.predict("${endpoint}", ${python(body)})`,
        "print(said.version, said.answer)",
      ].join("\n"),
    },
  ];
}
