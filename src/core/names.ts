/** The grammar of the names of products, images and environments. */
export const nameGrammar = /^[a-z][a-z0-9]*(?:[-_.][a-z0-9]+)*$/;

/** Whether a text is a name in hod.yaml. */
export function isName(text: string): boolean {
  return nameGrammar.test(text);
}

/** The nearest name to a text; `otherwise` where nothing of it can stand in one. */
export function normalName(text: string, otherwise: string): string {
  const name = text
    .toLowerCase()
    .replace(/[^a-z0-9._-]+/g, '-')
    .replace(/([-_.])[-_.]+/g, '$1')
    .replace(/^[^a-z]+|[-_.]+$/g, '');
  return isName(name) ? name : otherwise;
}
