import { describe, expect, it } from "vitest";
import { type Token, unbroken } from "./sentence";

const word = (text: string) => ({ text, path: "", piece: "" }) as Token;
const value = (text: string) => ({ text, path: "legs.0", piece: "" }) as Token;
const told = (tokens: Token[]) => unbroken(tokens).map((group) => group.map((token) => token.text).join("·"));

describe("where a sentence may break", () => {
  it("keeps brackets, dashes and full stops at their values", () => {
    const tokens = [
      word("nearest "),
      value("10 days"),
      word(" ("),
      value("5"),
      word("–"),
      value("18"),
      word(")."),
    ];
    expect(told(tokens)).toEqual(["nearest", " ", "10 days", " ", "(·5·–·18·)."]);
  });
  it("lets a long value break", () => {
    const tokens = [word("in "), value("the expiration of the calls"), word(".")];
    expect(told(tokens)).toEqual(["in", " ", "the expiration of the calls", "."]);
  });
  it("loses nothing", () => {
    const tokens = [word("On "), value("Mon"), word(" at "), value("15:45"), word(",  then.")];
    const text = (list: Token[]) => list.map((token) => token.text).join("");
    expect(text(unbroken(tokens).flat())).toBe(text(tokens));
  });
  it("keeps a tolerance's sign at its number", () => {
    const tokens = [word("delta "), value("0.20"), word(" (± "), value("0.15"), word(").")];
    expect(told(tokens).at(-1)).toBe("(±\u00a0·0.15·).");
  });
});
