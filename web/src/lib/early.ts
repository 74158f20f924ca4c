/** What is typed after a dialog was asked for and before it is there: it belongs to the dialog, not to
 * what is below it, and it is not lost. */
export interface Early {
  text: string;
  /** Whether Enter was pressed at the end. */
  entered: boolean;
}

/** Collect from now on; what is returned ends it and gives what was typed. Escape gives it up. */
export function collect(onescape: () => void): () => Early {
  const early: Early = { text: '', entered: false };
  function keys(event: KeyboardEvent) {
    const { key } = event;
    if (key === 'Enter') early.entered = true;
    else if (key === 'Escape') onescape();
    else if (key.length === 1 && !event.ctrlKey) early.text += key;
    else return;
    event.preventDefault();
    event.stopPropagation();
  }
  addEventListener('keydown', keys, true);
  return () => {
    removeEventListener('keydown', keys, true);
    return early;
  };
}
