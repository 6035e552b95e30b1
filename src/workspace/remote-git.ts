import { runProgram, type ProgramRun } from '../system/programs';
import { withoutTracing } from '../system/git-environment';

/** How long a remote may take, in milliseconds: to take something, and to answer a question that others wait for. */
const patience = { writing: 60_000, asking: 20_000 };

/** Runs git where it may ask a remote: it asks nobody for a password, and ends. */
export function remoteGit(folder: string, input: string, ...args: string[]): Promise<ProgramRun> {
  return run({ folder, input, timeout: patience.writing }, args);
}

/** The same for a question. */
export function askRemoteGit(folder: string, ...args: string[]): Promise<ProgramRun> {
  return run({ folder, input: '', timeout: patience.asking }, args);
}

function run(
  options: { readonly folder: string; readonly input: string; readonly timeout: number },
  args: readonly string[],
): Promise<ProgramRun> {
  const env = { ...withoutTracing(), LC_ALL: 'C', GIT_TERMINAL_PROMPT: '0' };
  return runProgram('git', ['-C', options.folder, ...args], { ...options, env, group: true });
}

/** Returns what git says went wrong, in a line, without logins that stand in addresses. */
export function remoteProblem({ exitCode, cause, stdout, stderr }: ProgramRun): string {
  const lines = `${stdout}\n${stderr}`.split('\n').filter((line) => /^(!|fatal:|error:|remote:)/.test(line));
  const said = lines.join('; ').replace(/(\w+:\/\/)[^/@\s]*@/g, '$1');
  return said === '' ? `git ended with ${exitCode ?? cause ?? 'nothing'}` : said.slice(0, 500);
}
