// The words of docs/glossary.md with their meanings: the document is the one place where they are explained.
import text from "../../docs/glossary.md?raw";
import { readGlossary } from "./readGlossary";

export const glossary = readGlossary(text);
