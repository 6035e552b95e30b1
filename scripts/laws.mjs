// The laws of the house, for the linter: see docs/architecture.md.
import { readdirSync, readFileSync, statSync } from 'node:fs';
import { dirname, join, relative, resolve } from 'node:path';

/** What each room may import, beside itself. */
const rooms = {
  core: [],
  system: ['core'],
  http: ['core', 'system'],
  registry: ['core', 'system', 'http'],
  archive: ['core', 'system'],
  ledger: ['core', 'system'],
  workspace: ['core', 'system'],
  session: ['core', 'system', 'http', 'registry', 'archive', 'ledger', 'workspace'],
  delivery: ['core', 'system', 'registry', 'archive', 'ledger', 'workspace', 'session'],
  tidying: ['core', 'system', 'registry', 'ledger', 'delivery'],
  rebuild: ['core', 'system', 'registry', 'ledger', 'workspace', 'session', 'delivery'],
  announcing: ['core', 'http', 'ledger', 'workspace', 'session', 'delivery'],
  inspect: [
    'core',
    'system',
    'http',
    'registry',
    'archive',
    'ledger',
    'workspace',
    'session',
    'delivery',
    'tidying',
    'announcing',
  ],
  results: ['core', 'delivery', 'tidying', 'rebuild', 'announcing', 'inspect'],
  operations: [
    ...['core', 'system', 'registry', 'archive', 'ledger', 'workspace'],
    ...['session', 'delivery', 'tidying', 'rebuild', 'announcing', 'inspect', 'results'],
  ],
  sandbox: ['core'],
  page: ['core', 'results'],
  cli: ['core', 'system', 'session', 'results', 'operations', 'sandbox'],
};

/** What each room of the core may import, beside itself and what lies in no room of the core. */
const coreRooms = {
  oci: [],
  tags: ['oci'],
  trust: ['oci'],
  reports: ['oci'],
  access: ['oci'],
  deployment: ['oci', 'tags'],
  ledger: ['oci', 'tags', 'trust', 'reports'],
  build: ['oci', 'tags'],
  release: ['oci', 'tags', 'trust', 'reports', 'ledger', 'build'],
  insight: ['oci', 'tags', 'trust', 'reports', 'ledger', 'build', 'release'],
  tidy: ['oci', 'tags', 'ledger', 'build', 'release'],
  identify: ['oci', 'tags', 'ledger', 'release', 'insight'],
};

/** The room of a file below `src`: the name of its folder, and within the core that of the one below. */
function roomOf(root, path) {
  const [first, second, third] = relative(join(root, 'src'), path).split('/');
  return { room: second === undefined ? '' : first, coreRoom: first === 'core' && third !== undefined ? second : '' };
}

function isAllowed(from, to) {
  if (from.room !== to.room) {
    // A room that is not named above may import nothing.
    return from.room === '' || to.room === '' || (rooms[from.room] ?? []).includes(to.room);
  }
  const inner = from.room === 'core' && to.coreRoom !== '' && from.coreRoom !== to.coreRoom;
  return !inner || (from.coreRoom !== '' && coreRooms[from.coreRoom]?.includes(to.coreRoom) === true);
}

const oneWay = {
  meta: { type: 'problem', schema: [] },
  create(context) {
    const from = roomOf(context.cwd, context.filename);
    const check = (source) => {
      if (typeof source?.value !== 'string' || !source.value.startsWith('.')) {
        return;
      }
      const to = roomOf(context.cwd, `${resolve(dirname(context.filename), source.value)}.ts`);
      if (!isAllowed(from, to)) {
        const name = ({ room, coreRoom }) => (coreRoom === '' || from.room !== to.room ? room : `${room}/${coreRoom}`);
        const message = `${name(from)}/ does not import ${name(to)}/: see "Which way imports run" in docs/architecture.md.`;
        context.report({ node: source, message });
      }
    };
    return {
      ImportDeclaration: ({ source }) => check(source),
      ExportNamedDeclaration: ({ source }) => check(source),
      ExportAllDeclaration: ({ source }) => check(source),
      ImportExpression: ({ source }) => check(source),
      TSImportType: ({ source }) => check(source),
    };
  },
};

/** The names that files of `src` export, and the files that do: read once in a run. */
let exported;

function exportedNames(root) {
  if (exported !== undefined) {
    return exported;
  }
  exported = new Map();
  const read = (folder) => {
    for (const name of readdirSync(folder)) {
      const path = join(folder, name);
      if (statSync(path).isDirectory()) {
        read(path);
      } else if (name.endsWith('.ts')) {
        for (const each of namesIn(readFileSync(path, 'utf8'))) {
          exported.set(each, [...(exported.get(each) ?? []), path]);
        }
      }
    }
  };
  read(join(root, 'src'));
  return exported;
}

const declaration =
  /^export (?:default )?(?:declare )?(?:async )?(?:abstract )?(?:function\*?|class|interface|type|enum|const|let) (\w+)/gm;

function namesIn(text) {
  return new Set([...text.matchAll(declaration)].map(([, name]) => name));
}

const oneName = {
  meta: { type: 'problem', schema: [] },
  create(context) {
    const check = (id) => {
      const others = (exportedNames(context.cwd).get(id?.name) ?? []).filter((path) => path !== context.filename);
      if (others.length > 0) {
        const files = others.map((path) => relative(context.cwd, path)).join(', ');
        context.report({ node: id, message: `${id.name} is exported by ${files}, too: one name for one thing.` });
      }
    };
    return {
      ExportNamedDeclaration({ declaration: declared }) {
        const ids = declared?.declarations?.map(({ id }) => id) ?? [declared?.id];
        ids.filter((id) => id?.type === 'Identifier').forEach(check);
      },
    };
  },
};

const mostParameters = 4;

function parameterOf(node) {
  return node.type === 'TSParameterProperty'
    ? parameterOf(node.parameter)
    : node.type === 'AssignmentPattern'
      ? node.left
      : node;
}

/** Whether a parameter is a plain boolean: at a call, `true` says nothing. */
function isBoolean(node) {
  const value =
    node.type === 'AssignmentPattern' && node.right.type === 'Literal' && typeof node.right.value === 'boolean';
  const type = parameterOf(node).typeAnnotation?.typeAnnotation;
  const types = type?.type === 'TSUnionType' ? type.types : [type];
  return value || types.some((each) => each?.type === 'TSBooleanKeyword');
}

const fewParameters = {
  meta: { type: 'problem', schema: [] },
  create(context) {
    const check = (node, name) => {
      if (node.params.length > mostParameters) {
        context.report({
          node,
          message: `${name} has more than ${mostParameters} parameters: name them in an object.`,
        });
      }
      // A boolean alone is what its function is about.
      node.params
        .filter((each) => node.params.length > 1 && isBoolean(each))
        .forEach((each) => {
          context.report({ node: each, message: `${name} takes a boolean by its place: name it in an object.` });
        });
    };
    return {
      'ExportNamedDeclaration > FunctionDeclaration': (node) => check(node, node.id?.name ?? 'this'),
      'ExportNamedDeclaration > VariableDeclaration > VariableDeclarator > ArrowFunctionExpression': (node) =>
        check(node, node.parent.id?.name ?? 'this'),
      'ExportNamedDeclaration > ClassDeclaration MethodDefinition[accessibility!="private"] > FunctionExpression': (
        node,
      ) => check(node, node.parent.key?.name ?? 'this'),
    };
  },
};

/** How strictly each law is kept in `src/`. */
export const kept = {
  'laws/one-way': 'error',
  'laws/one-name': 'error',
  'laws/few-parameters': 'error',
  'max-lines-per-function': ['error', 50],
};

export default { rules: { 'one-way': oneWay, 'one-name': oneName, 'few-parameters': fewParameters } };
