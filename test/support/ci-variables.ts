/** What a CI job is told of its build, in the variables of one of the CIs that are understood. */
export function ciVariables(facts: {
  commit?: string;
  branch?: string;
  build?: string;
  run?: string;
}): Record<string, string> {
  const all = {
    CI: 'woodpecker',
    CI_COMMIT_SHA: facts.commit,
    CI_COMMIT_BRANCH: facts.branch,
    CI_PIPELINE_NUMBER: facts.build,
    CI_PIPELINE_URL: facts.run,
  };
  return Object.fromEntries(
    Object.entries(all).flatMap(([name, value]) => (value === undefined ? [] : [[name, value]])),
  );
}
