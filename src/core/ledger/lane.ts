/** Whether a lane is a branch, and not a line of versions. */
export function isBranchLane(lane: string): boolean {
  return lane.startsWith('branch ');
}

/** A lane as people name it: `2.3`, or the branch. */
export function laneName(lane: string): string {
  return lane.slice(lane.indexOf(' ') + 1);
}

/** The lane that people name so: a line of versions, such as `2.3`, or a branch. */
export function laneNamed(name: string): string {
  return /^\d+\.\d+$/.test(name) ? `line ${name}` : `branch ${name}`;
}
