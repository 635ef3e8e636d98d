import type { Schemas } from "../../api/client";

export type Token = Schemas["TokenOut"];

const SHORT = 16;

/** A sentence's tokens in groups that a line does not break inside: a short value keeps the bracket, dash or full stop
 *  that is written to it without a space. */
export function unbroken(tokens: readonly Token[]): Token[][] {
  const pieces = tokens.flatMap((token) =>
    token.path
      ? [token]
      : joined(token.text)
          .split(/(?<= )|(?= )/)
          .map((text) => ({ ...token, text })),
  );
  const groups: Token[][] = [];
  let before: Token | undefined;
  for (const piece of pieces) {
    const apart = !before || isSpace(piece) || isSpace(before);
    if (apart) groups.push([piece]);
    else groups[groups.length - 1]!.push(piece);
    before = piece;
  }
  return groups.flatMap((group) => (isShort(group) ? [group] : group.map((piece) => [piece])));
}

/** A tolerance's sign stays at its number. */
export const joined = (text: string) => text.replaceAll("± ", "±\u00a0");

function isSpace(piece: Token): boolean {
  return !piece.path && !piece.text.trim();
}

function isShort(group: Token[]): boolean {
  return group.reduce((sum, piece) => sum + piece.text.length, 0) <= SHORT;
}
