// What a look that runs has to show, one picture after another.

// How it may have ended.
export const OVER = new Set(["samples", "noise", "paused", "left alone", "another scene", "wrong"]);

export const SILENT = 12000; // milliseconds without news after which it is asked for again

export const pause = (ms) => new Promise((done) => setTimeout(done, ms));

// The next picture, as soon as there is one.  `own` is what was wished for: its number, and the
// stamp of the picture before.  `ours` of what is said tells whether it is of that wish; `later`,
// that another page wished for something since.  Nothing is said where nothing is new.
export async function nextPicture(job, own) {
  const answer = await fetch(`/jobs/${job}/live?after=${own.stamp}`);
  if (!answer.ok) {
    await pause(1000);
    return {};
  }
  const said = JSON.parse(answer.headers.get("Look") || "{}");
  if (said.same) return {};
  own.stamp = said.stamp;
  if (said.number !== own.number) {
    const later = Boolean(said.number) && BigInt(said.number) > BigInt(own.number);
    return { said: { later, ours: false, words: "another page is looked at" } };
  }
  const bytes = await answer.blob();
  const picture = bytes.size ? await createImageBitmap(bytes) : null;
  return { said: { ...said, later: false, ours: true }, picture };
}
