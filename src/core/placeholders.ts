/** Fills placeholders such as `{registry}` in; those that have no value stay as they are. */
export function fillPlaceholders(text: string, values: Readonly<Record<string, string>>): string {
  return text.replace(/\{(\w+)\}/g, (all, name: string) => (Object.hasOwn(values, name) ? (values[name] ?? all) : all));
}
