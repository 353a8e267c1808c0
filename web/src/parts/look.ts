/** Classes in more than one piece, where they are too long for a line. */
export const look = (...pieces: string[]) => pieces.join(" ");
