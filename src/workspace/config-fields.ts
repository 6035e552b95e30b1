import * as z from 'zod';
import { nameGrammar } from '../core/names';

/** A name in hod.yaml: of a product, a component, an environment, a variable. */
export const nameSchema = z
  .string()
  .regex(nameGrammar, 'must be lower-case letters and digits with single - _ . between them');

/** The name of a variable of the environment. */
export const environmentVariable = z.string().regex(/^[A-Za-z_][A-Za-z0-9_]*$/, 'must name a variable');
