/** Variables by which CI systems say that a job of theirs runs; most set the first. */
const marks = ['CI', 'BUILD_BUILDID', 'TF_BUILD', 'JENKINS_URL', 'TEAMCITY_VERSION'];

/** Whether a CI runs this: a job in a clone of its own, as a rule, which is gone when the job is. */
export function isCiAtWork(): boolean {
  return marks
    .map((name) => process.env[name] ?? '')
    .some((value) => !['', '0', 'false'].includes(value.toLowerCase()));
}
