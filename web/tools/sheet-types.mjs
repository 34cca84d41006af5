// Prints the types of a sheet, made of its JSON Schema: node tools/sheet-types.mjs SCHEMA
import { readFile } from 'node:fs/promises';
import process from 'node:process';
import { compile } from 'json-schema-to-typescript';

const schema = JSON.parse(await readFile(process.argv[2], 'utf8'));
schema.title = 'Sheet';
// A condition is read by its keys, whichever they are while it is being written.
schema.$defs.condition = { tsType: 'Record<string, unknown>', description: 'a group, a test or a formula' };
delete schema.$defs.group;
delete schema.$defs.test;

/** Leaves out which fields go together, which types cannot say, and lets open objects hold anything. */
function plain(node) {
  if (Array.isArray(node)) return node.forEach(plain);
  if (node === null || typeof node !== 'object') return;
  if (node.type === 'object') {
    delete node.oneOf;
    delete node.anyOf;
    delete node.allOf;
  }
  if (node.type === 'object' && !node.properties && typeof node.additionalProperties !== 'object')
    node.tsType = 'Record<string, unknown>';
  for (const p of Object.values(node.properties ?? {})) {
    if (Object.keys(p).every((k) => k === 'description')) p.tsType = 'unknown';
  }
  Object.values(node).forEach(plain);
}
plain(schema);

const text = await compile(schema, 'Sheet', {
  bannerComment: '/* Made of docs/schema/sheet.schema.json by "make types". */',
  additionalProperties: false,
  ignoreMinAndMaxItems: true,
  unreachableDefinitions: true,
  style: { singleQuote: true, printWidth: 110 },
});
process.stdout.write(text);
