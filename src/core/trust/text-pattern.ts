/** Whether a text matches a pattern, in which `*` stands for any text. Takes time that grows with both lengths, not faster. */
export function matchesText(pattern: string, text: string): boolean {
  const [first = '', ...parts] = pattern.split('*');
  const last = parts.pop();
  if (last === undefined) {
    return pattern === text;
  }
  let at = first.length;
  const isInside = text.startsWith(first) && text.endsWith(last) && text.length >= first.length + last.length;
  const end = text.length - last.length;
  return (
    isInside &&
    parts.every((part) => {
      const found = text.indexOf(part, at);
      at = found + part.length;
      return found >= 0 && at <= end;
    })
  );
}
