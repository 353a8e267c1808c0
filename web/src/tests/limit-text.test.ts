import { type Limit, withDeadband, withDelay, withLimit } from "../places/definitions/limit-text";

const TEXT = `condition "oxygen # 1" priority high
  on raft_buoy
  raise when mean(oxygen, 30 min) < 5 mg/L deadband 0.5 mg/L held 20 min  # since spring
  say "{device}"
`;
const LIMIT = {
  line: 3,
  column: 37,
  end_column: 43,
  unit: "mg/L",
  band_unit: "mg/L",
} as Limit;
const line = (text: string) => text.split("\n")[2];

describe("a limit in the text", () => {
  it("is another number in its unit", () => {
    expect(line(withLimit(TEXT, LIMIT, 5.25))).toBe(
      "  raise when mean(oxygen, 30 min) < 5.25 mg/L deadband 0.5 mg/L held 20 min  # since spring",
    );
    expect(withLimit(TEXT, { ...LIMIT, unit: "1" }, -2)).toContain("< -2 deadband");
  });
  it("has another deadband, or none, and keeps its delay and its remark", () => {
    expect(line(withDeadband(TEXT, LIMIT, 0.75))).toContain("< 5 mg/L deadband 0.75 mg/L held 20 min  # since");
    expect(line(withDeadband(TEXT, LIMIT, 0))).toContain("< 5 mg/L held 20 min  # since spring");
    const without = withDeadband(withDelay(TEXT, LIMIT, 0), LIMIT, 0);
    expect(line(without)).toBe("  raise when mean(oxygen, 30 min) < 5 mg/L  # since spring");
    expect(line(withDeadband(without, LIMIT, 1))).toContain("< 5 mg/L deadband 1 mg/L  # since spring");
  });
  it("has another delay in whole units", () => {
    expect(line(withDelay(TEXT, LIMIT, 5400))).toContain("deadband 0.5 mg/L held 90 min  # since");
    expect(line(withDelay(TEXT, LIMIT, 7200))).toContain("held 2 h  #");
    expect(line(withDelay(TEXT, LIMIT, 45))).toContain("held 45 s  #");
    expect(line(withDelay(TEXT, LIMIT, 0))).toBe(
      "  raise when mean(oxygen, 30 min) < 5 mg/L deadband 0.5 mg/L  # since spring",
    );
  });
  it("leaves a mark in quotes alone", () => {
    const text = 'condition "c" priority low\n  on x\n  raise when inside(fix, "bed #3") and depth > 2 m held 5 min\n';
    const own = { ...LIMIT, column: 48, end_column: 51, unit: "m" };
    expect(line(withLimit(text, own, 3))).toBe('  raise when inside(fix, "bed #3") and depth > 3 m held 5 min');
    expect(line(withDelay(text, own, 600))).toBe('  raise when inside(fix, "bed #3") and depth > 2 m held 10 min');
  });
});
