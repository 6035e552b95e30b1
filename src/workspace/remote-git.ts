import { runProgram, type ProgramRun } from '../system/programs';
import { withoutTracing } from '../system/git-environment';

/** How long a remote may take to answer, in milliseconds. */
const patience = 60_000;

/** Runs git where it may ask a remote: it asks nobody for a password, and ends. */
export function remoteGit(folder: string, input: string, ...args: string[]): Promise<ProgramRun> {
  const env = { ...withoutTracing(), LC_ALL: 'C', GIT_TERMINAL_PROMPT: '0' };
  return runProgram('git', ['-C', folder, ...args], { folder, input, env, timeout: patience, group: true });
}

/** Returns what git says went wrong, in a line, without logins that stand in addresses. */
export function remoteProblem({ exitCode, cause, stdout, stderr }: ProgramRun): string {
  const lines = `${stdout}\n${stderr}`.split('\n').filter((line) => /^(!|fatal:|error:|remote:)/.test(line));
  const said = lines.join('; ').replace(/(\w+:\/\/)[^/@\s]*@/g, '$1');
  return said === '' ? `git ended with ${exitCode ?? cause ?? 'nothing'}` : said.slice(0, 500);
}
