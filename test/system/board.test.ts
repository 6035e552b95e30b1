import { execFileSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import { cp, readFile } from 'node:fs/promises';
import { join } from 'node:path';
import Database from 'libsql';
import * as z from 'zod';
import { hodJson } from '../support/hod';
import { sandboxWorld, type SandboxWorld } from '../support/world';

const hostile = '</script><img src=x onerror=alert(1)> & "so" \u2028 on';

let sandbox: SandboxWorld;
let db: Database.Database;
beforeAll(async () => {
  sandbox = await sandboxWorld();
  const { world } = sandbox;
  const build = async (file: string, ...args: string[]): Promise<void> => {
    await world.product.change('timetable', file);
    await world.product.build();
    await hodJson('stage', ['stage', 'tide-watch'], world.options);
    await world.publish(...args);
  };
  await world.publish();
  await world.promote('uat');
  await world.promote('prod');
  await build('Show the winter sailings', '--next', 'minor');
  await build('Show the summer sailings', '--next', 'minor');
  await world.promote('uat');
  await world.promote('prod');
  expect((await world.hod('rollback', 'prod', '--reason', hostile)).code).toBe(0);
  // One that is late, and held.
  const late = await world.product.change('timetable', 'Show the autumn sailings');
  await world.product.build();
  const [out, kept] = [join(world.product.folder, 'out'), join(world.folder, 'kept')];
  await cp(out, kept, { recursive: true });
  await build('Show the spring sailings', '--next', 'patch');
  await cp(kept, out, { recursive: true, force: true });
  await world.publish('--commit', late, '--branch', 'main');
  await world.promote('uat');

  // The exported ledger, and what git knows, as plain tables.
  const file = join(world.folder, 'ledger.jsonl');
  expect((await world.hod('ledger', 'export', file)).code).toBe(0);
  db = new Database(':memory:');
  db.exec(`
    CREATE TABLE line (j TEXT);
    CREATE TABLE made (id TEXT, ms INTEGER);
    CREATE VIEW entry AS SELECT j, j ->> '$.seq' AS seq, j ->> '$.at' AS at, j ->> '$.action.kind' AS kind,
      j ->> '$.action.environment' AS environment, j ->> '$.action.release' AS release, j ->> '$.action.commit' AS id,
      strftime('%s', j ->> '$.at') * 1000 + substr(j ->> '$.at', 21, 3) AS ms FROM line WHERE j ->> '$.seq' IS NOT NULL;
    CREATE VIEW delivered AS SELECT * FROM entry WHERE kind IN ('published', 'promoted');
    CREATE VIEW came AS SELECT release, id, environment, min(ms) AS ms FROM delivered WHERE EXISTS
      (SELECT 1 FROM json_each(j, '$.action.arrivals') WHERE value ->> '$.way' <> 'held') GROUP BY 1, 2, 3`);
  const line = db.prepare('INSERT INTO line VALUES (?)');
  (await readFile(file, 'utf8'))
    .split('\n')
    .filter(Boolean)
    .forEach((text) => line.run(text));
  const made = db.prepare('INSERT INTO made VALUES (?, ?)');
  const log = execFileSync('git', ['log', '--all', '--format=%H %ct'], { cwd: world.product.folder, encoding: 'utf8' });
  for (const [id, seconds] of log
    .trim()
    .split('\n')
    .map((text) => text.split(' '))) {
    made.run(id, Number(seconds) * 1000);
  }
});
afterAll(() => sandbox.close());

const board = (...args: string[]) => hodJson('board', ['board', ...args], sandbox.world.options);
const rowsOf = z.array(z.record(z.string(), z.union([z.string(), z.number(), z.null()])));
const ask = (sql: string, ...values: unknown[]) => rowsOf.parse(db.prepare(sql).all(...values));
const askOne = (sql: string) => Object.values(ask(sql)[0] ?? {})[0];

/** Quartiles of the column `x` of a query. */
function spread(sql: string, ...values: unknown[]): unknown {
  const count = ask(`SELECT count(*) AS count FROM (${sql})`, ...values)[0]?.['count'];
  const value = (share: number): unknown => {
    const [row] = ask(
      `WITH r AS (SELECT x, row_number() OVER (ORDER BY x) - 1 AS i, (count(*) OVER () - 1) * ${share} AS h FROM (${sql}))
       SELECT lo.x + (hi.x - lo.x) * (lo.h - lo.i) AS x FROM r lo JOIN r hi ON hi.i = CASE WHEN lo.h > lo.i THEN lo.i + 1 ELSE lo.i END
       WHERE lo.i = CAST(lo.h AS INTEGER)`,
      ...values,
    );
    return expect.closeTo(Number(row?.['x']), 3);
  };
  return { count, lower: value(0.25), median: value(0.5), upper: value(0.75) };
}

test('the numbers of the page are what plain SQL makes of the exported ledger', async () => {
  const { figures, releases, ledger, events, sizes } = await board();
  for (const each of figures.environments) {
    const { environment } = each;
    const [counts] = ask(
      `SELECT count(*) AS releases, count(withdrawn.release) AS withdrawn FROM came LEFT JOIN (SELECT DISTINCT environment,
         value ->> '$.release' AS release FROM entry, json_each(j, '$.action.withdrawn') WHERE kind = 'rolled-back') AS withdrawn
         USING (environment, release) WHERE environment = ?`,
      environment,
    );
    expect(each).toMatchObject(counts ?? { environment: 'nowhere' });
    expect(each.weeks).toEqual(
      ask(
        `SELECT date(at, '-6 days', 'weekday 1') AS week, count(*) AS count FROM delivered
         WHERE environment = ? AND j ->> '$.action.together' IS NOT 1 GROUP BY 1 ORDER BY 1`,
        environment,
      ),
    );
    expect(each.sinceCommit).toEqual(
      spread('SELECT came.ms - made.ms AS x FROM came JOIN made USING (id) WHERE environment = ?', environment),
    );
    expect(each.sincePublished).toEqual(
      environment === 'dev'
        ? null
        : spread(
            "SELECT came.ms - p.ms AS x FROM came JOIN came AS p ON p.release = came.release AND p.environment = 'dev' WHERE came.environment = ?",
            environment,
          ),
    );
  }
  expect(figures.publishing).toEqual(
    spread(
      `SELECT came.ms - min(entry.ms) AS x FROM came JOIN entry ON entry.id = came.id AND kind = 'staged'
       WHERE came.environment = 'dev' AND entry.seq < (SELECT min(seq) FROM delivered WHERE delivered.release = came.release) GROUP BY came.release`,
    ),
  );
  expect([releases.length, ledger.entries, events.length]).toEqual(
    [
      'SELECT count(DISTINCT release) AS n FROM delivered',
      'SELECT count(*) AS n FROM entry',
      "SELECT count(*) AS n FROM entry WHERE kind <> 'announced'",
    ].map(askOne),
  );
  // Nothing of this is so because nothing happened.
  expect(figures.environments.map(({ releases: count, withdrawn }) => [count, withdrawn])).toEqual([
    [4, 0],
    [3, 0],
    [2, 1],
  ]);
  expect(figures.publishing?.count).toBe(3);
  expect(sizes.map(({ component, points }) => [component, points.length])).toEqual([
    ['timetable', 4],
    ['boarding-gate', 4],
    ['tide-watch', 4],
  ]);
});

test('the page allows the script and the style in it and nothing else, and text from outside ends no element', async () => {
  const { world, requests } = sandbox;
  const { file, bytes } = await board('--out', 'public.html', '--ledger-only');
  const page = await readFile(join(world.product.folder, file), 'utf8');
  expect(Buffer.byteLength(page)).toBe(bytes);
  const hash = (text: string | undefined): string =>
    `'sha256-${createHash('sha256')
      .update(text ?? '')
      .digest('base64')}'`;
  const [, data, script] = page.split(/<script[^>]*>|<\/script>/).filter((_, at) => at % 2 === 1 || at === 0);
  const [, style] = /<style>([^]*)<\/style>/.exec(page) ?? [];
  expect(page).toContain(
    `content="default-src 'none'; script-src ${hash(script)}; style-src ${hash(style)}; img-src data:; base-uri 'none'; form-action 'none'"`,
  );
  expect(page).not.toContain('<img');
  expect(data).toContain('\\u003c/script\\u003e\\u003cimg');
  const { events, asked } = await board('--ledger-only');
  expect([asked, events.some(({ detail }) => detail.includes('onerror'))]).toEqual([false, true]);
  const before = Object.values(requests).flat().length;
  await board('--ledger-only');
  expect(Object.values(requests).flat().length).toBe(before);
  await world.fails('file-unusable', 'board', '--out', 'nowhere/at/all.html');
});
