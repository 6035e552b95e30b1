import Table from 'cli-table3';
import { shortCommit } from '../../core/commit';
import type { StatusResult } from '../../results/status';
import type { Look } from '../answer';
import { formatAge, formatCount } from './format';
import type { Style } from './style';

/** What each environment serves: a row for each image, a column for each environment. */
export function statusView(result: StatusResult, { style }: Look, now: Date): string {
  const environments = result.environments.map(({ environment }) => environment);
  const images = [...new Set(result.environments.flatMap(({ images: all }) => all.map(({ image }) => image)))];
  if (images.length === 0) {
    const { place, entries } = result.ledger;
    return entries === 0
      ? `This ledger is empty: ${place}\nNothing was recorded of ${style.strong(result.product)} here; whatever its registries serve was recorded elsewhere.`
      : `Nothing is served of ${style.strong(result.product)} yet: ${environments.join(', ')} are empty.`;
  }
  const table = new Table({
    head: [style.strong(result.product), ...environments.map((name) => style.strong(name))],
    style: { head: [], border: [] },
  });
  for (const image of images) {
    const cells = result.environments.map(({ images: all }) => {
      const found = all.find((each) => each.image === image);
      if (found === undefined) {
        return style.faint('–');
      }
      const { version, commit, since, drift } = found;
      const mark =
        drift.state === 'none' ? '' : ` ${drift.state === 'drifted' ? style.bad('drift') : style.notice('?')}`;
      const name = version === null ? style.strong(shortCommit(commit)) : style.strong(version);
      const detail = version === null ? '' : `${shortCommit(commit)}  `;
      return `${name}${mark}\n${style.faint(`${detail}${formatAge(since, now)}`)}`;
    });
    table.push([image, ...cells]);
  }
  return [
    table.toString(),
    ...driftLines(result, style),
    ...baseLines(result, style),
    ...announcementLines(result, style, now),
  ].join('\n');
}

/** Who was not told of something yet. */
function announcementLines({ announcements }: StatusResult, style: Style, now: Date): string[] {
  return announcements
    .filter(({ undelivered }) => undelivered > 0)
    .map(({ receiver, undelivered, since }) => {
      const age = since === null ? '' : ` ${style.faint(`(the first is ${formatAge(since, now)} old)`)}`;
      return `${style.notice('untold')}  ${receiver}: ${formatCount(undelivered, 'announcement')}${age}; \`hod announce\` tries again`;
    });
}

/** Which releases to build again, and what is known of the others. */
function baseLines({ bases }: StatusResult, style: Style): string[] {
  if (bases === null) {
    return [];
  }
  const lines = bases
    .filter(({ state }) => state !== 'current')
    .map(({ environment, image, version, commit, platform, name, detail, state }) => {
      const word = state === 'moved' ? style.notice('rebuild') : style.faint('unknown');
      return `${word}  ${environment} ${image} ${version ?? shortCommit(commit)} for ${platform}: on ${name}, ${detail}`;
    });
  const current = bases.length - lines.length;
  return [
    ...[...new Set(lines)],
    bases.length === 0
      ? style.faint('No image says what it was built on (org.opencontainers.image.base.name and .digest).')
      : style.faint(`${current} of ${bases.length} images stand on what their base is now.`),
  ];
}

function driftLines(result: StatusResult, style: Style): string[] {
  return result.environments.flatMap(({ environment, images }) =>
    images
      .filter(({ drift }) => drift.state !== 'none')
      .map(({ image, drift }) => {
        const word = drift.state === 'drifted' ? style.bad('drift') : style.notice('unknown');
        return `${word}  ${environment} ${image}: ${drift.detail}`;
      }),
  );
}
