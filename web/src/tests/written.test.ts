import cases from "../../../tests/data/printed_units.json";
import { fitting } from "../parts/unit-field";
import { fit } from "../parts/palette";
import { onAxis, setZone, ticks, tickWord } from "../parts/time";
import { printed, titled } from "../parts/units";
import { amount, duration, labels, properName, writtenDuration, wrongName } from "../parts/written";
import { conditionDraft, looksLike } from "../places/definitions/beginning";

vi.mock("uplot", () => ({ default: class {} }));

describe("what people write", () => {
  it("is read as a number, or said to be none with the way to write it", () => {
    expect(amount(" -37.4 ").value).toBe(-37.4);
    expect(amount("\u22123").value).toBe(-3);
    expect(amount("").value).toBeNull();
    expect(amount("37,4").problem).toContain("write 37.4, with a point");
    expect(amount("3 m").problem).toContain("`3 m` is no number");
    expect(amount("91", -90, 90).problem).toContain("from -90 to 90");
    expect(amount("Infinity").problem).toBeDefined();
    expect(amount("0x10").problem).toBeDefined();
  });

  it("is read as a length of time in the words for it", () => {
    const read = (text: string) => duration(text).value;
    expect(["300", "5 min", "5min", "90 s", "1 h 30 min", "2 d", "1.5 h", "2 hours"].map(read)).toEqual([
      300, 300, 300, 90, 5400, 172800, 5400, 7200,
    ]);
    expect(read("")).toBeNull();
    for (const odd of ["5 mn", "five", "1 h 30", "0", "-5 min", "5 min later on"])
      expect(duration(odd).problem, odd).toBeDefined();
    expect([30, 300, 5400, 7200, 172800].map((s) => writtenDuration(s))).toEqual([
      "30 s", "5 min", "90 min", "2 h", "2 d",
    ]); // prettier-ignore
  });

  it("is read as labels, each of which is one", () => {
    expect(labels("row=2, stage=x note=a=b").value).toEqual({ row: "2", stage: "x", note: "a=b" });
    expect(labels("row 2, stage=x").problem).toBe("`row` is no label: write name=value");
    expect(labels("row=2 row=3").problem).toContain("stands twice");
    expect(labels("a-b=2").problem).toContain("no name of a label");
  });

  it("becomes a name that would do", () => {
    expect(properName("Cold room 1", "-")).toBe("cold-room-1");
    expect(properName("3 Éclairs!", "_")).toBe("eclairs");
    expect(wrongName("Cold room 1", "-")).toMatchObject({ proposed: "cold-room-1" });
    expect(wrongName("cold-room-1", "-")).toBeNull();
  });
});

describe("units", () => {
  it("are printed as the server prints them", () => {
    for (const [code, form] of Object.entries(cases)) expect(printed(code), code).toBe(form);
  });

  it("are found by words, printed form and code", () => {
    const units = [
      { code: "m[H2O]", printed: "mH₂O", words: "metre of water, pressure" },
      { code: "ug/L", printed: "µg/L", words: "microgram per litre, chlorophyll" },
      { code: "Cel", printed: "°C", words: "degree Celsius, temperature" },
      { code: "m", printed: "m", words: "metre, length" },
    ];
    const codes = (text: string) => fitting(units, text).map((u) => u.code);
    expect(codes("temp")).toEqual(["Cel"]);
    expect(codes("°")).toEqual(["Cel"]);
    expect(codes("µg")).toEqual(["ug/L"]);
    expect(codes("m")[0]).toBe("m");
    expect(codes("nothing")).toEqual([]);
  });

  it("stand beside fields in words", () => {
    expect(titled("water_temperature")).toBe("Water temperature");
    expect(titled("rssi", "Signal strength")).toBe("Signal strength");
  });
});

describe("an axis of time", () => {
  afterEach(() => setZone("UTC"));
  const at = (text: string) => new Date(text).getTime();

  it("is marked at the midnights of the zone shown, today named", () => {
    setZone("Etc/GMT+2");
    const found = ticks(at("2026-03-01T00:00:00Z"), at("2026-03-04T12:00:00Z"), 8).map((t) =>
      new Date(t).toISOString(),
    );
    expect(found.filter((t) => t.includes("T02:00"))).toEqual(
      ["01", "02", "03", "04"].map((d) => `2026-03-${d}T02:00:00.000Z`),
    );
    const now = new Date("2026-03-04T12:00:00Z");
    expect(tickWord(at("2026-03-02T02:00:00Z"), now)).toBe("Mon 2");
    expect(tickWord(at("2026-03-04T02:00:00Z"), now)).toBe("today");
    expect(tickWord(at("2026-03-02T14:00:00Z"), now)).toBe("12:00");
    expect(tickWord(at("2026-03-01T02:00:00Z"), now)).toBe("1 Mar");
    expect(tickWord(at("2026-01-05T02:00:00Z"), now)).toBe("5 Jan");
  });

  it("keeps to local midnights across a change of clocks", () => {
    setZone("CET");
    const found = ticks(at("2026-03-28T00:00:00Z"), at("2026-03-31T00:00:00Z"), 4).map((t) =>
      new Date(t).toISOString(),
    );
    expect(found).toEqual(["2026-03-28T23:00:00.000Z", "2026-03-29T22:00:00.000Z", "2026-03-30T22:00:00.000Z"]);
  });

  it("has at most so many marks, whatever its length", () => {
    for (const hours of [1, 5, 24, 7 * 24, 30 * 24, 90 * 24, 400 * 24])
      for (const most of [3, 8, 16]) {
        const found = ticks(at("2026-03-01T07:13:00Z") - hours * 3600_000, at("2026-03-01T07:13:00Z"), most);
        expect(found.length, `${hours} h, ${most}`).toBeLessThanOrEqual(most + 1);
        expect(found.every((t, i) => i === 0 || t > (found[i - 1] ?? 0))).toBe(true);
      }
  });

  it("tells a moment with its day where the axis is longer than one", () => {
    expect(onAxis(new Date("2026-03-02T09:10:05Z"), 3600_000)).toBe("09:10:05");
    expect(onAxis(new Date("2026-03-02T09:10:05Z"), 7 * 86400_000)).toBe("Mon 2 09:10");
    expect(onAxis(new Date("2026-03-02T09:10:05Z"), 90 * 86400_000)).toBe("2 Mar 09:10");
  });

  it("of a year is marked at the first days of months", () => {
    setZone("CET");
    const found = ticks(at("2025-06-10T00:00:00Z"), at("2026-06-10T00:00:00Z"), 8);
    expect(found.map((t) => new Date(t).toISOString().slice(0, 16))).toEqual(
      ["2025-06-30T22", "2025-08-31T22", "2025-10-31T23", "2025-12-31T23", "2026-02-28T23", "2026-04-30T22"].map(
        (t) => `${t}:00`,
      ),
    );
    expect(found.map((t) => tickWord(t, new Date("2026-06-10T00:00:00Z"))).slice(0, 2)).toEqual(["1 Jul", "1 Sept"]);
  });
});

describe("what Oculum proposes", () => {
  const type = (setpoints: [string, string][]) =>
    ({
      key: "well_probe",
      fields: [
        { name: "battery", kind: "number", unit: "V" },
        { name: "level", kind: "number", unit: "m" },
      ],
      setpoints: setpoints.map(([name, unit]) => ({ name, unit, value: 1 })),
    }) as never;
  const rule = (name: string, setpoints: [string, string][]) =>
    /raise when (.*) held/.exec(conditionDraft(name, type(setpoints)))?.[1];

  it("is the right way round: a minimum is undercut, a maximum exceeded", () => {
    const both: [string, string][] = [["level_max", "m"], ["level_min", "m"], ["battery_min", "V"]]; // prettier-ignore
    expect(rule("level is low", both)).toBe("level < setpoint level_min");
    expect(rule("level is too high", both)).toBe("level > setpoint level_max");
    expect(rule("battery is weak", both)).toBe("battery < setpoint battery_min");
    expect(rule("something", [["level_min", "m"]])).toBe("level < setpoint level_min");
    expect(rule("level is low", [])).toBe("level < 0 m");
    expect(rule("level", [])).toBe("level > 0 m");
  });

  it("is the kind of payload that a message looks like", () => {
    const hex = (text: string) =>
      [...new TextEncoder().encode(text)].map((b) => b.toString(16).padStart(2, "0")).join("");
    const of = (text: string) => looksLike(hex(text), text);
    expect(of('{"v":3}')).toBe("json");
    expect(of('[{"n":"level","v":3}]')).toBe("senml");
    expect(of("level=3;")).toBe("text");
    expect(of("{broken")).toBe("text");
    expect(looksLike("a1657374617465", null)).toBe("cbor");
    expect(looksLike("a101", null)).toBe("bytes, big endian");
    expect(looksLike("10068e35", null)).toBe("bytes, big endian");
  });
});

describe("finding", () => {
  it("puts what begins with the words before what has them somewhere", () => {
    const names = ["Buoy 04", "Buoy 40", "Old buoy 4", "Raft"];
    const ranks = names.map((word) => fit({ word }, "buoy 4"));
    expect(ranks[1]).toBe(0);
    expect(ranks[2]).toBe(1);
    expect(ranks[0]).toBe(2);
    expect(ranks[3]).toBeNull();
    expect(fit({ word: "Sign out", also: "log out leave" }, "log")).toBe(1);
  });
});
