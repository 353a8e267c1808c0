import { render } from "@testing-library/react";
import { alerts, setAlert, useAlert } from "../parts/alert";

const rung = vi.fn();
const told = vi.fn();

class Tone {
  frequency = { value: 0 };
  connect = (to: unknown) => to;
  start = rung;
  stop = vi.fn();
}
class Audio {
  currentTime = 0;
  createOscillator = () => new Tone();
  createGain = () => ({
    gain: { setValueAtTime: vi.fn(), exponentialRampToValueAtTime: vi.fn() },
    connect: (to: unknown) => to,
  });
  close = () => Promise.resolve();
}
class Notice {
  static permission = "granted";
  static requestPermission = () => Promise.resolve(Notice.permission);
  constructor(title: string, { body }: { body: string }) {
    told(title, body);
  }
}

const Watch = ({ untaken, live = true }: { untaken: number | undefined; live?: boolean }) => {
  useAlert(untaken, live);
  return null;
};

describe("an alarm that nobody has taken", () => {
  beforeEach(() => {
    localStorage.clear();
    vi.stubGlobal("AudioContext", Audio);
    vi.stubGlobal("Notification", Notice);
    vi.spyOn(document, "hidden", "get").mockReturnValue(true);
    rung.mockClear();
    told.mockClear();
  });
  afterEach(() => vi.unstubAllGlobals());

  it("rings and is told once for more of them, where that is wanted", async () => {
    expect(alerts("sound")).toBe(false);
    const { rerender } = render(<Watch untaken={2} />);
    rerender(<Watch untaken={3} />);
    expect(rung).not.toHaveBeenCalled();
    expect(await setAlert("sound", true)).toBe(true);
    expect(await setAlert("notice", true)).toBe(true);
    rung.mockClear();
    rerender(<Watch untaken={5} />);
    expect(rung).toHaveBeenCalledTimes(2);
    expect(told).toHaveBeenCalledWith("Oculum", "5 alarms nobody has taken");
    rerender(<Watch untaken={4} />);
    rerender(<Watch untaken={4} />);
    expect(rung).toHaveBeenCalledTimes(2);
  });

  it("is silent at first, and about the past", async () => {
    await setAlert("sound", true);
    rung.mockClear();
    const { rerender } = render(<Watch untaken={7} />);
    rerender(<Watch untaken={9} live={false} />);
    rerender(<Watch untaken={12} />);
    expect(rung).not.toHaveBeenCalled();
  });

  it("shows no notice that the browser does not allow", async () => {
    Notice.permission = "denied";
    expect(await setAlert("notice", true)).toBe(false);
    expect(alerts("notice")).toBe(false);
    Notice.permission = "granted";
  });
});
