import { Ajv2020, type ValidateFunction } from 'ajv/dist/2020.js';
import { openApi } from '../../src/api/openapi.ts';

interface Operation {
  responses: Record<string, { content?: Record<string, { schema: object }> }>;
}
interface Document {
  paths: Record<string, Record<string, Operation>>;
  components: object;
}

export const DOCUMENT = (await openApi('test')) as Document;
const ajv = new Ajv2020({ strict: false, validateFormats: false });
ajv.addSchema({ $id: 'document', components: DOCUMENT.components });
const compiled = new Map<string, ValidateFunction>();

const TEMPLATES = Object.keys(DOCUMENT.paths).map((path) => ({
  path,
  pattern: new RegExp(`^${path.replace(/[.*+?^$()|[\]\\]/g, '\\$&').replace(/\{\w+\}/g, '[^/]+')}$`),
}));

/** What is wrong with an answer by the OpenAPI document; null when it keeps to it, or no call is there. */
export function brokenBy(method: string, target: string, status: number, type: string, body: unknown): string | null {
  const [path = ''] = target.split('?');
  // A path without parameters goes before one that has some.
  const [found] = TEMPLATES.filter((one) => one.pattern.test(path)).sort(
    (one, other) => one.path.split('{').length - other.path.split('{').length,
  );
  const operation = found && DOCUMENT.paths[found.path]?.[method.toLowerCase()];
  if (!found || !operation) return null;
  const key = `${method} ${found.path} ${status === 200 ? 200 : 'default'}`;
  let validate = compiled.get(key);
  if (!validate) {
    const schema = operation.responses[status === 200 ? '200' : 'default']?.content?.[type.split(';')[0] ?? '']?.schema;
    if (!schema) return `${key}: an answer of type ${type} is not in the document`;
    validate = ajv.compile(JSON.parse(JSON.stringify(schema).replaceAll('"#/components/', '"document#/components/')));
    compiled.set(key, validate);
  }
  return validate(body) ? null : `${key}: ${ajv.errorsText(validate.errors)}`;
}
