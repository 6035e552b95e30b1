/** A component of a product, as far as rules ask about it. */
export interface Component {
  readonly name: string;
  /** Whether it may be published without the rest of the product. */
  readonly publishAlone: boolean;
  /** The names that it had before, as hod.yaml says. */
  readonly was: readonly string[];
}

/** Returns the name that a component has by now, of which something older says a name. */
export function nameNow(components: readonly Pick<Component, 'name' | 'was'>[], name: string): string {
  return components.find(({ was }) => was.includes(name))?.name ?? name;
}

/** Every name that a component has had, by any of them: the present one first. */
export function everyNameOf(components: readonly Pick<Component, 'name' | 'was'>[], name: string): string[] {
  const now = nameNow(components, name);
  return [now, ...(components.find((each) => each.name === now)?.was ?? [])];
}

/** What a component is made of. */
export interface Requirement {
  /** `os/arch[/variant]`; empty where hod.yaml does not say, or it is a bundle. */
  readonly platforms: readonly string[];
  /** How many build outputs it has. */
  readonly outputs: number;
}

/** What is still missing of a component, in words: platforms, or the number of outputs. */
export function missingOf(
  { platforms, outputs }: Requirement,
  present: readonly { readonly platforms: readonly string[] }[],
): string[] {
  if (platforms.length > 0) {
    const there = new Set(present.flatMap((each) => each.platforms));
    return platforms.filter((platform) => !there.has(platform));
  }
  if (present.length > 0 && present.length >= outputs) {
    return [];
  }
  return [outputs === 1 ? 'its build output' : `${outputs - present.length} of its ${outputs} build outputs`];
}
