import { join } from 'node:path';
import { writeFleet } from './fleet.mjs';
import {
  configure,
  folder,
  inSeconds,
  inTurn,
  jobs,
  median,
  publishing,
  quick,
  report,
  root,
  rounds,
  runHod,
  timed,
  withResponder,
  hod,
} from './harness.mjs';
import { drawRequests } from './plot.mjs';

/** So many small requests go out at once. */
const atOnce = 4 * jobs;
/** With fewer requests open, a run waits for itself. */
const busy = 8;
const product = join(folder, 'lean');
const works = [
  { name: 'publish', args: publishing },
  { name: 'publish again', args: publishing },
  { name: 'promote', args: ['promote', 'uat'] },
  { name: 'promote again', args: ['promote', 'uat'] },
  { name: 'status', args: ['status'] },
];

/** What Hod adds to the waiting: beside a responder that does nothing but answer late. `--chart` draws the requests over time. */
export async function measureResponding() {
  const count = quick ? 6 : 20;
  const names = writeFleet(join(folder, 'lean-fleet'), count);
  const places = Object.fromEntries(names.map((name) => [name, join(folder, 'lean-fleet', name)]));
  for (const milliseconds of quick ? [20] : [20, 100]) {
    const [found] = await inTurn(
      [
        () =>
          withResponder(milliseconds, async (host, counted, authority) => {
            configure(product, places, host, host, `registries: { "${host}": { tls: { ca: ${authority} } } }\n`);
            const start = timed([process.execPath, hod, '--version']).seconds;
            const day = [];
            for (const { args } of works) {
              const { seconds, cpu } = runHod(product, ...args);
              day.push({ seconds, cpu, start, ...(await counted()) });
            }
            return day;
          }),
      ],
      Math.min(rounds, 3),
    );
    works.forEach(({ name }, at) =>
      reportWork(
        `${name}, ${count} images × 3 platforms, answers ${milliseconds} ms late`,
        found.map((day) => day[at]),
        milliseconds,
      ),
    );
    if (process.argv.includes('--chart') && milliseconds === 20) {
      const last = found.at(-1);
      await drawRequests(
        works
          .map(({ name }, at) => ({ name, requests: last[at].requests }))
          .filter(({ name }) => !name.endsWith('again')),
        join(root, 'docs', 'requests.svg'),
      );
    }
  }
}

function reportWork(work, found, milliseconds) {
  const of = (value) => median(found.map(value));
  const least = (each) => (each.requests.length * milliseconds) / atOnce / 1000 + each.start;
  const [seconds, waiting, ratio] = [of((each) => each.seconds), of(least), of((each) => each.seconds / least(each))];
  const requests = of((each) => each.requests.length);
  const idle = of(({ requests: all }) => idleShare(all));
  const said = `${inSeconds(seconds)}, ${inSeconds(of(({ cpu }) => cpu))} of CPU, ${requests} requests on ${of(({ connections }) => connections)} connections, ${Math.round(idle * 100)} % of the time fewer than ${busy}`;
  report(work, `round trips and start ${inSeconds(waiting)}`, said, `× ${ratio.toFixed(2)}`, '≤ × 1.5', ratio <= 1.5);
}

/** The share of the time, from the first request to the last answer, in which fewer requests were open than keep a run busy. */
function idleShare(requests) {
  const events = requests.flatMap(({ begun, ended }) => [
    { at: begun, by: 1 },
    { at: ended, by: -1 },
  ]);
  events.sort((one, other) => one.at - other.at);
  let [open, idle] = [0, 0];
  for (const [index, { at, by }] of events.entries()) {
    open += by;
    const next = events[index + 1]?.at ?? at;
    idle += open < busy ? next - at : 0;
  }
  const [first, last] = [events[0]?.at ?? 0, events.at(-1)?.at ?? 0];
  return last === first ? 0 : idle / (last - first);
}
