import { gaps, strokes, told, toldOf } from "../places/watch/strokes";

const row = (messages: number[], more = {}) => ({
  messages,
  failed: messages.map(() => 0),
  late: [] as number[][],
  cadence_s: 600,
  known_from: 0,
  ...more,
});

describe("the rhythm of a device", () => {
  it("draws a stroke where a message came, as tall as the cadence is kept", () => {
    expect(strokes(row([1, 0, 1]), 300).map((s) => [s.part, s.tall, s.kind])).toEqual([
      [0, 1, "whole"],
      [2, 1, "whole"],
    ]);
    expect(strokes(row([6, 3, 13]), 3600).map((s) => [s.tall, s.kind])).toEqual([
      [1, "whole"],
      [0.5, "whole"],
      [1, "burst"],
    ]);
  });

  it("tells refused ones, and leans with a clock that is off", () => {
    const found = strokes(row([1, 1, 1], { failed: [0, 1, 0], late: [[1, 3, 300]] }), 600);
    expect(found.map((s) => s.kind)).toEqual(["whole", "refused", "whole"]);
    expect(found.map((s) => s.slant)).toEqual([0, 0.5, 0.5]);
    expect(toldOf(row([1, 1], { late: [[1, 2, -300]] }), 1)).toBe("1 message, measured 5 min after they came");
  });

  it("finds gaps longer than one and a half cadences, at both ends too", () => {
    expect(gaps(row([0, 0, 1, 0, 1, 0, 0, 0]), 600)).toEqual([
      { from: 0, to: 2 },
      { from: 5, to: 8 },
    ]);
    expect(gaps(row([0, 0, 0, 0, 0, 1], { known_from: 3 }), 600)).toEqual([{ from: 3, to: 5 }]);
    // Finer parts than the cadence: empty ones between two messages are none.
    expect(gaps(row([1, 0, 0, 1, 0, 0, 0, 0, 0, 1]), 200)).toEqual([{ from: 4, to: 9 }]);
    expect(gaps(row([0, 0, 0], { cadence_s: null }), 600)).toEqual([]);
  });

  it("counts nothing against a device while Oculum itself did not listen", () => {
    expect(gaps(row([1, 0, 0, 0, 0, 0, 1]), 600, [{ from: 2.5, to: 6 }])).toEqual([]);
    expect(gaps(row([1, 0, 0, 0, 0, 0, 1]), 600, [{ from: 3, to: 5 }])).toEqual([{ from: 1, to: 3 }]);
  });

  it("says it in words", () => {
    const own = row([1, 1, 0, 0, 0, 1], { failed: [0, 1, 0, 0, 0, 0] });
    expect(told(own, gaps(own, 600), 600)).toBe("3 messages, 1 refused, longest gap 30 min");
  });
});
