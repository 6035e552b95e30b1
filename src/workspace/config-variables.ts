import * as z from 'zod';
import { alsoSimilar } from '../core/nearest';
import { environmentVariable, nameSchema } from './config-fields';
import type { ConfigFinding, Path } from './config-findings';

/** A value that differs by stage or account, and where it came from. */
export interface ConfigVariable {
  readonly name: string;
  readonly value: string;
  /** The variable of the environment; undefined where it is the default, or stands in hod.yaml. */
  readonly env: string | undefined;
}

/** What can stand in a host, a path, or a URL, and ends none of its parts early. */
const variableValue = z
  .string()
  .regex(
    /^[A-Za-z0-9](?:[A-Za-z0-9._:/-]*[A-Za-z0-9])?$/,
    'must be what can stand in a host or path: letters, digits and . _ - : /',
  );

/** The form of `variables:` in hod.yaml. */
export const variablesSchema = z.record(
  nameSchema,
  z.union(
    [variableValue, z.strictObject({ env: environmentVariable, default: variableValue.optional() })],
    'must be a text, or { env: VARIABLE, default: TEXT }; a value is what can stand in a host or path',
  ),
);

/** Where values may be filled in; `*` is any key. Nothing of it says what content is. */
const places = [
  'environments.*.repository',
  'images.*.from',
  'images.*.from.*',
  'includes.*.from',
  'registries.*.token-service',
  'registries.*.create-repository.*',
  'registries.*.credentials.command.*',
  'registries.*.credentials.job.audience',
  'registries.*.credentials.job.exchange',
  'registries.*.credentials.job.exchange.url',
  'registries.*.credentials.job.exchange.form.*',
  'registries.*.credentials.job.exchange.json.*',
  'announce.*.url',
].map((place) => place.split('.'));

const placeholder = /\{variable\.([^{}]*)\}/g;
const anyRecord = z.record(z.string(), z.unknown());

/** A configuration with its variables filled in, and what is wrong with them. */
export interface FilledConfig {
  readonly raw: unknown;
  readonly variables: readonly ConfigVariable[];
  readonly findings: readonly ConfigFinding[];
}

/**
 * Fills the variables of a configuration in.
 *
 * @param lookup The environment; undefined to fill in names for values, where these are not known.
 */
export function withVariables(raw: unknown, lookup: ((name: string) => string | undefined) | undefined): FilledConfig {
  const document = anyRecord.safeParse(raw).data;
  const { variables: declared, ...rest } = document ?? {};
  const declarations = variablesSchema.safeParse(declared ?? {}).data;
  if (declarations === undefined || document === undefined) {
    // The schema says what is wrong with their form.
    return { raw, variables: [], findings: [] };
  }
  const findings: ConfigFinding[] = [];
  const values = new Map<string, ConfigVariable>();
  for (const [name, declaration] of Object.entries(declarations)) {
    const variable = resolved(name, declaration, lookup);
    if ('problem' in variable) {
      findings.push({ path: ['variables', name], atKey: true, text: variable.problem });
    }
    values.set(name, 'problem' in variable ? unknownValue(name) : variable);
  }
  const filled = new Filling(values, findings).fill(rest, []);
  return {
    raw: declared === undefined ? filled : { variables: declared, ...anyRecord.parse(filled) },
    variables: [...values.values()],
    findings,
  };
}

function resolved(
  name: string,
  declaration: z.infer<typeof variablesSchema>[string],
  lookup: ((name: string) => string | undefined) | undefined,
): ConfigVariable | { problem: string } {
  if (typeof declaration === 'string') {
    return { name, value: declaration, env: undefined };
  }
  const { env, default: usual } = declaration;
  const given = lookup?.(env);
  const value = given === undefined || given === '' ? usual : given;
  if (value === undefined) {
    return lookup === undefined
      ? unknownValue(name)
      : { problem: `${name}: the environment variable ${env} is not set, and there is no default` };
  }
  const { error } = variableValue.safeParse(value);
  return error === undefined
    ? { name, value, env: value === given ? env : undefined }
    : // The value is not repeated: it may be a secret that was put there by mistake.
      { problem: `${name}: the value of ${env} ${error.issues[0]?.message ?? ''}` };
}

/** What stands for a value that is not known: it can be a host, or a part of a host or path. */
function unknownValue(name: string): ConfigVariable {
  return { name, value: `${name.replaceAll('_', '-')}.variable`, env: undefined };
}

class Filling {
  /** What is being filled in at the moment: an alias can lead back to any of it. */
  private readonly around = new Set<unknown>();

  constructor(
    private readonly values: ReadonlyMap<string, ConfigVariable>,
    private readonly findings: ConfigFinding[],
  ) {}

  /** A value of the document with everything below it. */
  fill(value: unknown, path: Path): unknown {
    if (typeof value === 'string') {
      return this.fillText(value, path);
    }
    if (typeof value !== 'object' || value === null) {
      return value;
    }
    if (this.around.has(value)) {
      this.findings.push({ path, text: 'this holds itself' });
      return null;
    }
    this.around.add(value);
    const filled = this.fillBelow(value, path);
    this.around.delete(value);
    return filled;
  }

  private fillBelow(value: object, path: Path): unknown {
    if (Array.isArray(value)) {
      return value.map((each, at) => this.fill(each, [...path, at]));
    }
    const entries = anyRecord.safeParse(value).data;
    if (entries === undefined) {
      return value;
    }
    const isRegistries = path.length === 1 && path[0] === 'registries';
    const filled = Object.entries(entries).map(([key, each]): [string, unknown] => {
      const name = isRegistries ? this.filledText(key, [...path, key], true) : this.unfilled(key, [...path, key], true);
      return [name, this.fill(each, [...path, key])];
    });
    if (new Set(filled.map(([key]) => key)).size < filled.length) {
      this.findings.push({ path, text: 'with the values of the variables, two of these are the same registry' });
    }
    return Object.fromEntries(filled);
  }

  private fillText(text: string, path: Path): string {
    const isPlace = places.some(
      (place) => place.length === path.length && place.every((key, at) => key === '*' || key === String(path[at])),
    );
    if (!isPlace) {
      return this.unfilled(text, path);
    }
    // A path says which content is meant, and is the same for all; a reference names its host first.
    const isReference = path[0] !== 'images' || /^(?:registry:)?[^/]*\{variable\.[^/]*\//.test(text);
    return isReference ? this.filledText(text, path) : this.unfilled(text, path);
  }

  private filledText(text: string, path: Path, atKey = false): string {
    return text.replace(placeholder, (all, name: string) => {
      const variable = this.values.get(name);
      if (variable === undefined) {
        const known = [...this.values.keys()];
        const there = known.length === 0 ? '; `variables:` declares none' : alsoSimilar(name, known);
        this.findings.push({ path, atKey, text: `there is no variable ${name}${there}` });
      }
      return variable?.value ?? all;
    });
  }

  private unfilled(text: string, path: Path, atKey = false): string {
    if (text.search(placeholder) >= 0) {
      this.findings.push({
        path,
        atKey,
        text: 'a variable cannot stand here; variables are for repositories, registries and URLs',
      });
    }
    return text;
  }
}
