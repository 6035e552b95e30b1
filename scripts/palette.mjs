// The colours of the page, its charts and the pictures: hues of the ferry's day, each at one lightness for light and one for
// dark, in OKLCH, so that none is louder than another. `node scripts/palette.mjs` prints them with their contrast.
import { fileURLToPath } from 'node:url';

/** Degrees. */
const hues = { sea: 222, heather: 312, lamp: 68, kelp: 152, thrift: 355, buoy: 27 };

/** Lightness and chroma of what is written and drawn, for light and dark. */
const scheme = {
  light: {
    ground: [0.97, 0.006],
    card: [0.995, 0.002],
    ink: [0.25, 0.03],
    muted: [0.47, 0.03],
    line: [0.86, 0.014],
    mark: [0.5, 0.12],
  },
  dark: {
    ground: [0.19, 0.02],
    card: [0.24, 0.022],
    ink: [0.94, 0.01],
    muted: [0.77, 0.025],
    line: [0.39, 0.028],
    mark: [0.8, 0.11],
  },
};

/** A colour as `#rrggbb`: OKLCH to sRGB (CSS Color 4, section 10), with less chroma where sRGB has no such colour. */
function hexOf([lightness, chroma], hue) {
  const angle = (hue * Math.PI) / 180;
  for (let left = chroma; ; left -= 0.002) {
    const [a, b] = [left * Math.cos(angle), left * Math.sin(angle)];
    const l = (lightness + 0.3963377774 * a + 0.2158037573 * b) ** 3;
    const m = (lightness - 0.1055613458 * a - 0.0638541728 * b) ** 3;
    const s = (lightness - 0.0894841775 * a - 1.291485548 * b) ** 3;
    const linear = [
      4.0767416621 * l - 3.3077115913 * m + 0.2309699292 * s,
      -1.2684380046 * l + 2.6097574011 * m - 0.3413193965 * s,
      -0.0041960863 * l - 0.7034186147 * m + 1.707614701 * s,
    ];
    if (left <= 0 || linear.every((each) => each >= 0 && each <= 1)) {
      const bytes = linear.map((each) => {
        const cut = Math.min(1, Math.max(0, each));
        return Math.round(255 * (cut <= 0.0031308 ? 12.92 * cut : 1.055 * cut ** (1 / 2.4) - 0.055));
      });
      return `#${bytes.map((each) => each.toString(16).padStart(2, '0')).join('')}`;
    }
  }
}

/** The contrast of two colours (WCAG 2.2, "contrast ratio"). */
function contrast(one, other) {
  const [bright, dim] = [one, other]
    .map((hex) => {
      const [r, g, b] = [1, 3, 5].map((at) => {
        const part = parseInt(hex.slice(at, at + 2), 16) / 255;
        return part <= 0.04045 ? part / 12.92 : ((part + 0.055) / 1.055) ** 2.4;
      });
      return 0.2126 * r + 0.7152 * g + 0.0722 * b;
    })
    .sort((a, b) => b - a);
  return (bright + 0.05) / (dim + 0.05);
}

function coloursOf({ mark, ...neutral }) {
  const fog = Object.fromEntries(Object.entries(neutral).map(([name, value]) => [name, hexOf(value, hues.sea)]));
  const marks = Object.fromEntries(Object.entries(hues).map(([name, hue]) => [name, hexOf(mark, hue)]));
  return { ...fog, ...marks };
}

export const palette = { light: coloursOf(scheme.light), dark: coloursOf(scheme.dark) };

/** Every colour that is read or told apart, beside what is behind it: 4.5 is asked for (WCAG 2.2 AA, text). */
function contrasts() {
  return Object.entries(palette).flatMap(([name, colours]) =>
    ['ink', 'muted', ...Object.keys(hues)].flatMap((colour) =>
      [colours.ground, colours.card].map((behind) => {
        return { name, colour, hex: colours[colour], behind, ratio: contrast(colours[colour], behind) };
      }),
    ),
  );
}

/** The page's custom properties. Throws where a contrast is too low. */
export function paletteCss() {
  const low = contrasts().find(({ ratio }) => ratio < 4.5);
  if (low !== undefined) {
    throw new Error(
      `${low.colour} has a contrast of ${low.ratio.toFixed(2)} on ${low.behind} (${low.name}); 4.5 is the least`,
    );
  }
  const rules = ({ ground, card, ink, muted, line, sea, heather, lamp, kelp, thrift, buoy }) =>
    Object.entries({ ground, card, ink, muted, line, link: sea, bad: buoy })
      .concat([sea, heather, lamp, kelp, thrift, muted].map((hex, at) => [`env-${at}`, hex]))
      .map(([name, hex]) => `--${name}: ${hex};`)
      .join(' ');
  return `:root { color-scheme: light dark; ${rules(palette.light)} }
@media (prefers-color-scheme: dark) { :root { ${rules(palette.dark)} } }`;
}

if (process.argv[1] === fileURLToPath(import.meta.url)) {
  contrasts().forEach(({ name, colour, hex, behind, ratio }) => {
    process.stdout.write(`${name.padEnd(6)}${colour.padEnd(9)}${hex} on ${behind}  ${ratio.toFixed(1)}\n`);
  });
}
