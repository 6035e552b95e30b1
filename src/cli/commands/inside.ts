import { exitCodes } from '../../core/errors';
import { answer } from '../answer';
import { command, configOption, parseCount, quietOption, requestsOption } from '../options';

/** `hod inside`. */
export function insideCommand() {
  return command('inside', 'show the files in the layers of an image, and those that are hidden but shipped', [
    [
      'hod inside registry.test/skerry/timetable:2.4.0 --platform linux/arm64',
      'the top of its files, the largest, what is hidden',
    ],
    ["hod inside out/timetable.tar --find '*.pem'", 'where is it?'],
    ['hod inside out/timetable.tar --hidden', 'what a later layer deleted or wrote over'],
    ['hod inside out/timetable.tar --check', 'a gate: exit 3 where a key, a login or a set-uid file is shipped'],
    ['hod inside registry.test/skerry/timetable:2.3.0 registry.test/skerry/timetable:2.4.0', 'what differs'],
    ['hod inside registry.test/skerry/timetable:2.4.0 --field hiddenTotal.bytes', 'how much is shipped and hidden'],
  ])
    .argument('<ref>', 'a reference, the path of a build output, or - for standard input')
    .argument('[other]', 'another one: what was added, removed and changed from the first to it')
    .option('--platform <platform>', 'look into the image for this platform, where there are several')
    .option('--find <pattern>', 'only paths that match, such as *.pem or etc/**')
    .option('--layer <n>', 'only what this layer brought, from 1', parseCount)
    .option('--hidden', 'only what is shipped and hidden')
    .option('--list', 'every path')
    .option(
      '--check',
      'exit with 3 if a key, a login or a set-uid file is shipped that `allowed-inside` does not allow',
    )
    .option('--verbose', 'show all that is hidden or to be looked at')
    .addOption(configOption())
    .addOption(requestsOption())
    .addOption(quietOption())
    .action(async (reference, other, { check, ...options }) => {
      const { inside, insideBoth } = await import('../../operations/inside');
      const { insideDifferenceView, insideView } = await import('../views/inside');
      if (other === undefined) {
        const result = await answer(options, (run) => inside({ reference, ...options, ...run }), insideView);
        if (check === true && result.concerns.some(({ fails }) => fails)) {
          process.exitCode = exitCodes.refused;
        }
      } else {
        await answer(options, (run) => insideBoth([reference, other], { ...options, ...run }), insideDifferenceView);
      }
    });
}
