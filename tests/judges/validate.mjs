// The validator's issues for each file.
import { readFileSync } from "node:fs";
import { basename, dirname, join } from "node:path";
import { validateBytes } from "gltf-validator";

export default async function (...files) {
  const reports = [];
  for (const file of files) {
    const report = await validateBytes(new Uint8Array(readFileSync(file)), {
      uri: basename(file),
      maxIssues: 50,
      externalResourceFunction: async (uri) =>
        new Uint8Array(readFileSync(join(dirname(file), decodeURIComponent(uri)))),
    });
    const { numErrors, numWarnings, numInfos, messages } = report.issues;
    reports.push({ file, errors: numErrors, warnings: numWarnings, infos: numInfos, messages });
  }
  return reports;
}
