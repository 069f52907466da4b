/** Paragraphs with parts in backticks that are code, as descriptions have them. */
export function Prose({ text }: { text: string }) {
  return text
    .trim()
    .split(/\n\s*\n/)
    .map((paragraph, i) => (
      <p key={i} className="max-w-prose">
        {paragraph
          .replaceAll("\n", " ")
          .split("`")
          .map((part, n) => (n % 2 ? <code key={n}>{part}</code> : part))}
      </p>
    ));
}
