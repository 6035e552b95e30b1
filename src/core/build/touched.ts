import picomatch from 'picomatch';

/** Something whose inputs are named: patterns of files, relative to the folder of hod.yaml. */
export interface Inputs {
  /** Undefined where nothing says what it is made of. */
  readonly own: readonly string[] | undefined;
  /** What all components are made of. */
  readonly shared: readonly string[];
}

/** Whether something must be built again, and why. */
export interface Touch {
  readonly touched: boolean;
  /** The changed files that it is made of. */
  readonly files: readonly string[];
  readonly reason: string;
}

/** Whether changed files touch something. The configuration itself is an input of everything. */
export function touchOf({ own: patterns, shared }: Inputs, changed: readonly string[], configuration: string): Touch {
  if (patterns === undefined) {
    return { touched: true, files: [], reason: 'hod.yaml does not say what it is made of (`inputs:`)' };
  }
  const options = { dot: true };
  const own = picomatch([...patterns], options);
  const common = picomatch([...shared], options);
  const files = changed.filter((file) => file === configuration || own(file) || common(file));
  const [first] = files;
  if (first === undefined) {
    return { touched: false, files: [], reason: 'none of its files changed' };
  }
  const why =
    first === configuration ? 'the configuration changed' : own(first) ? 'its files changed' : 'shared files changed';
  return { touched: true, files, reason: why };
}
