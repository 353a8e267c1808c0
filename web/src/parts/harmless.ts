const OBEYED = /[\p{Cc}\p{Cf}\p{Cs}\p{Co}\p{Cn}\p{Zl}\p{Zp}]/gu;

/** A stranger's text to be shown: marks of control and of direction as what they are, not as what they do. */
export const harmless = (text: string): string =>
  text.replace(OBEYED, (letter) => `\\u{${(letter.codePointAt(0) ?? 0).toString(16)}}`);
