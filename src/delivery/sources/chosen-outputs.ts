import { parseOutputPlace, type OutputPlace } from '../../core/build/output-place';
import { HodError } from '../../core/errors';
import { TemplateError } from '../../core/tags/template';
import { isHere } from '../../session/locate';
import type { ComponentConfig } from '../../workspace/config';

/**
 * Reads where a build output is, as an option says it.
 *
 * @throws {@link HodError} `not-a-reference`
 */
export function chosenPlace(text: string): OutputPlace {
  try {
    return parseOutputPlace(text, isHere);
  } catch (error) {
    if (!(error instanceof TemplateError)) {
      throw error;
    }
    throw new HodError('not-a-reference', {
      what: 'this names no build output',
      object: text,
      why: error.message,
      next: 'name a path, or registry/name with a :tag or a @digest',
    });
  }
}

/**
 * Puts the build outputs that options name (`IMAGE=PLACE`) in the place of those that hod.yaml names.
 *
 * @throws {@link HodError} `options-conflict` where one is for no image that was chosen; `not-a-reference`
 */
export function withOutputs(components: readonly ComponentConfig[], from: readonly string[]): ComponentConfig[] {
  const named = from.map((text) => {
    const at = text.indexOf('=');
    return { text, name: text.slice(0, Math.max(0, at)), place: text.slice(at + 1) };
  });
  const images = components.filter(({ kind }) => kind === 'image').map(({ name }) => name);
  const stray = named.find(({ name }) => !images.includes(name));
  if (stray !== undefined) {
    throw new HodError('options-conflict', {
      what: '--from is for an image that is published',
      object: `--from ${stray.text}`,
      why: stray.name === '' ? 'it names no image' : `${stray.name} is none of ${images.join(', ')}`,
      next: `name the image and where it is: \`--from ${images[0] ?? 'IMAGE'}=${stray.place}\``,
    });
  }
  return components.map((component) => {
    const places = named.filter(({ name }) => name === component.name).map(({ place }) => chosenPlace(place));
    return component.kind === 'image' && places.length > 0 ? { ...component, outputs: places } : component;
  });
}
