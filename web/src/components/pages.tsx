type Props = {
  /** The cursors of the pages up to this one; the first has none. */
  cursors: string[];
  /** The cursor of the next page, absent behind the last. */
  next?: string;
  go: (cursors: string[]) => void;
};

/** Goes through a list page by page. */
export function Pages({ cursors, next, go }: Props) {
  return (
    <>
      <button
        type="button"
        className="btn btn-sm"
        disabled={cursors.length === 0}
        onClick={() => go(cursors.slice(0, -1))}
      >
        Back
      </button>
      <button type="button" className="btn btn-sm" disabled={!next} onClick={() => next && go([...cursors, next])}>
        On
      </button>
    </>
  );
}
