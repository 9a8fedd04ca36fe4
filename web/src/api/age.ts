/** How old answers are: where many ask, one that was made some seconds before is given out again (header Age). */

const SHOWN_MS = 5_000; // after an answer, for which its age is told
let oldest = { age: 0, at: Number.NEGATIVE_INFINITY };

export function noteAge(response: Response, now = Date.now()): void {
  const age = Number(response.headers.get("Age") ?? 0);
  if (age >= oldest.age || now - oldest.at > SHOWN_MS) oldest = { age, at: now };
}

/** Of the oldest answer of the last seconds, s. */
export function ageOfFigures(now = Date.now()): number {
  return now - oldest.at > SHOWN_MS ? 0 : oldest.age;
}
