import * as z from 'zod';
import { configSchema } from '../workspace/config-schema';

/** The JSON Schema of hod.yaml, for editors: its form. What its names lead to `hod config check` says. */
export function configJsonSchema(): object {
  return z.toJSONSchema(configSchema, { io: 'input', unrepresentable: 'any' });
}
