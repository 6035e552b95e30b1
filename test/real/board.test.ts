import { mkdtemp, readFile, rm } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join, resolve } from 'node:path';
import { chromium, type Browser, type BrowserContextOptions, type Page } from 'playwright-core';
import { writeBoard } from '../../src/cli/board-file';
import { madeUpBoard } from '../support/made-up-board';

/** The page in Debian's chromium: a product of 60 images and 5,000 releases. */
const data = madeUpBoard({ components: 60, releases: 5_000, days: 700 }, new Date('2026-11-26T18:00:00Z'));

/** A page of forty products, and one that could not be read. */
const fleet = {
  written: data.written,
  products: Array.from({ length: 40 }, (_, at) => {
    const each = madeUpBoard({ components: 2 + (at % 5), releases: 20, days: 90 }, new Date('2026-11-26T18:00:00Z'));
    return { ...each, product: `product ${at}` };
  }),
  unread: [{ config: 'services/cargo/hod.yaml', what: 'this ledger is empty', why: 'nothing was recorded' }],
};

let folder: string;
let browser: Browser;
let axe: string;
/** What no page may do: say something on the console, or ask for anything but itself. */
const said: string[] = [];
beforeAll(async () => {
  folder = await mkdtemp(join(tmpdir(), 'hod-board-'));
  await writeBoard(data, join(folder, 'board.html'), resolve(__dirname, '../../dist'));
  await writeBoard(fleet, join(folder, 'fleet.html'), resolve(__dirname, '../../dist'));
  axe = await readFile(require.resolve('axe-core/axe.min.js'), 'utf8');
  browser = await chromium.launch({ executablePath: '/usr/bin/chromium', args: ['--no-sandbox'] });
});
afterAll(async () => {
  await browser.close();
  await rm(folder, { recursive: true, force: true });
});
beforeEach(() => said.splice(0));
afterEach(() => expect(said).toEqual([]));

async function open(options: BrowserContextOptions = {}, name = 'board', table = 'events'): Promise<Page> {
  const context = await browser.newContext({ viewport: { width: 1280, height: 800 }, ...options });
  const page = await context.newPage();
  const url = `file://${join(folder, `${name}.html`)}`;
  page.on('console', (message) => said.push(message.text()));
  page.on('pageerror', (error) => said.push(error.message));
  page.on('request', (request) => request.url() !== url && said.push(request.url()));
  const begun = performance.now();
  await page.goto(url);
  await page.locator(`#${table}-table tbody tr`).first().waitFor();
  process.stderr.write(`a page (${name}) is there after ${Math.round(performance.now() - begun)} ms\n`);
  return page;
}

const cells = (page: Page, table: string, column: number): Promise<string[]> =>
  page.locator(`#${table} tbody tr td:nth-child(${column})`).allTextContents();

describe.each([
  ['light', { colorScheme: 'light', viewport: { width: 1280, height: 800 } }],
  ['dark', { colorScheme: 'dark', viewport: { width: 1280, height: 800 } }],
  ['a phone', { colorScheme: 'light', viewport: { width: 390, height: 800 } }],
] as const)('%s', (_, options) => {
  test('nothing in it keeps anybody out, and nothing is wider than its room', async () => {
    const page = await open(options);
    await page.evaluate(axe);
    const violations: unknown = await page.evaluate(
      'axe.run().then(({ violations }) => violations.map(({ id, nodes }) => [id, nodes[0].html]))',
    );
    expect(violations).toEqual([]);
    expect(await page.evaluate<number>('document.documentElement.scrollWidth - innerWidth')).toBeLessThanOrEqual(0);
    const many = await open(options, 'fleet', 'products');
    await many.evaluate(axe);
    expect(await many.evaluate('axe.run().then(({ violations }) => violations.map(({ id }) => id))')).toEqual([]);
    expect(await many.evaluate<number>('document.documentElement.scrollWidth - innerWidth')).toBeLessThanOrEqual(0);
    const [ground, ink] = await page.evaluate<[string, string]>(
      '[getComputedStyle(document.body).backgroundColor, getComputedStyle(document.body).color]',
    );
    const brightness = (color: string): number => Number(/\d+/.exec(color)?.[0]);
    expect(brightness(ground) > brightness(ink)).toBe(options.colorScheme === 'light');
  });
});

test('the figures that are shown are those of the document, and every chart is drawn', async () => {
  const page = await open();
  for (const { environment, releases, withdrawn } of data.figures.environments) {
    const row = page.locator(`#figures tr[data-environment="${environment}"] td`);
    expect((await row.allTextContents()).slice(0, 2)).toEqual([
      String(releases),
      expect.stringMatching(new RegExp(`^${withdrawn} `)),
    ]);
  }
  expect(await page.locator('#figures svg[role="img"][aria-label]').count()).toBe(4);
  // Colours are of this page, and not what a browser makes of none.
  const fills = await page.evaluate<string[]>(
    `[...document.querySelectorAll('#figures [fill^="var(--env"]')].map((each) => getComputedStyle(each).fill)`,
  );
  expect(fills.length).toBeGreaterThan(3);
  expect(fills).not.toContain('rgb(0, 0, 0)');
});

test('everything is done by keyboard: links, the choice of releases, search, sorting, pages', async () => {
  const page = await open();
  const reached = new Set<string>();
  for (let at = 0; at < 120; at += 1) {
    await page.keyboard.press('Tab');
    reached.add(
      await page.evaluate<string>(
        '(({ tagName, id, textContent }) => `${tagName} ${id || textContent}`)(document.activeElement)',
      ),
    );
  }
  expect([...reached]).toEqual(
    expect.arrayContaining([
      'A serves',
      'SELECT flow-count',
      'INPUT releases-table-search',
      'BUTTON Next page',
      'BUTTON release',
      'INPUT events-table-search',
      'BUTTON when (UTC)',
      'SUMMARY 59 components',
    ]),
  );
  const few = await page.locator('#figures figure').first().locator('path').count();
  await page.focus('#flow-count');
  await page.keyboard.press('ArrowDown');
  await page.waitForFunction(`document.querySelector('#figures figure').querySelectorAll('path').length > ${few}`);

  // Search narrows by all words; its count is told to who does not see it.
  await page.focus('#events-table-search');
  await page.keyboard.type('rolled-back turnstiles');
  const kinds = await cells(page, 'events-table', 3);
  expect([kinds.length > 0, new Set(kinds)]).toEqual([true, new Set(['rolled-back'])]);
  const count = data.events.filter(({ kind }) => kind === 'rolled-back').length;
  expect(await page.locator('#events-table [role="status"]').textContent()).toMatch(
    new RegExp(`^${count} rows, page 1 of `),
  );

  // A release is found by a digest in it, in full.
  const wanted = data.releases[7];
  await page.focus('#releases-table-search');
  await page.keyboard.type(`sha256:${wanted?.digests[0] ?? 'none'}${'0'.repeat(52)}`);
  expect(await cells(page, 'releases-table', 2)).toEqual([wanted?.commit.slice(0, 12)]);
  await page.fill('#releases-table-search', '');

  // A release opens to its digests, and to how it is pulled, by keyboard.
  const [latest] = [...data.releases].reverse();
  const opener = page.locator('#releases-table .open').first();
  await opener.focus();
  await page.keyboard.press('Enter');
  expect(await opener.getAttribute('aria-expanded')).toBe('true');
  const inside = await page.locator('#releases-table .details').textContent();
  expect(latest?.contents?.components.length).toBeGreaterThan(0);
  latest?.contents?.components.forEach(({ digest }) => expect(inside).toContain(digest));
  expect(inside).toContain(latest?.contents?.pulls[0]?.reference);
  await page.keyboard.press('Enter');
  expect(await page.locator('#releases-table .details').count()).toBe(0);

  // Sorting, both ways, by value and not by digits.
  const entry = page.locator('#events-table th button', { hasText: 'entry' });
  await entry.focus();
  await page.keyboard.press('Enter');
  const up = (await cells(page, 'events-table', 1)).map(Number);
  expect(up).toEqual([...up].sort((a, b) => a - b));
  expect(await page.locator('#events-table th[aria-sort]').getAttribute('aria-sort')).toBe('ascending');
  await page.keyboard.press('Enter');
  const down = (await cells(page, 'events-table', 1)).map(Number);
  expect(down[0]).toBe(Math.max(...data.events.filter(({ kind }) => kind === 'rolled-back').map(({ seq }) => seq)));
  expect(down).toEqual([...down].sort((a, b) => b - a));
  const release = page.locator('#releases-table th button', { hasText: /^release$/ });
  await release.focus();
  await page.keyboard.press('Enter');
  expect((await cells(page, 'releases-table', 1)).slice(0, 3)).toEqual(['2.0.0', '2.0.1', '2.0.2']);
  await page.locator('#releases-table button', { hasText: 'Next page' }).focus();
  await page.keyboard.press('Enter');
  expect((await cells(page, 'releases-table', 1))[0]).toBe('2.5.0');
  expect(await page.locator('#releases-table [role="status"]').textContent()).toBe('5000 rows, page 2 of 100');
});

test('of several products, one is found, opened by its name and left again with the keyboard alone', async () => {
  const page = await open({}, 'fleet', 'products');
  expect(await page.locator('#summary').textContent()).toContain('1 product could not be read');
  await page.locator('#products-table-search').fill('product 17');
  expect(await page.locator('#products-table tbody tr').count()).toBe(1);
  await page.locator('#products-table tbody a').focus();
  await page.keyboard.press('Enter');
  await page.locator('#events-table tbody tr').first().waitFor();
  expect(await page.locator('h1').textContent()).toBe('product 17');
  // A part of its page is no other product.
  await page.locator('nav a[href="#ledger"]').press('Enter');
  expect(await page.locator('h1').textContent()).toBe('product 17');
  await page.locator('nav a[href="#/"]').press('Enter');
  await page.locator('#products-table tbody tr').first().waitFor();
  expect(await page.locator('h1').textContent()).toBe('40 products');
  await page.goBack();
  await page.goBack();
  await page.locator('#status-table').waitFor();
});
