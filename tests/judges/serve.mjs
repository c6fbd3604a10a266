// Judges one file after another: a line with {"judge": "validate", "arguments": [...]} is answered by a line with what
// it says, {"said": ...}, or {"error": ...}. Starting a judge takes far longer than asking it.
import { createInterface } from "node:readline";

console.log = console.info = console.debug = console.error; // what clients have to say is no answer

for await (const line of createInterface({ input: process.stdin })) {
  let answer;
  try {
    const asked = JSON.parse(line);
    const { default: judge } = await import(`./${asked.judge}.mjs`);
    answer = { said: await judge(...asked.arguments) };
  } catch (error) {
    answer = { error: String(error?.stack ?? error) };
  }
  process.stdout.write(`${JSON.stringify(answer)}\n`);
}
