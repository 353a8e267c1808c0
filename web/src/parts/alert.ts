import { useEffect, useRef } from "react";
import { counted } from "./words";

const PLACE = { sound: "oculum.alert.sound", notice: "oculum.alert.notice" };
type Way = keyof typeof PLACE;

/** Whether this browser rings, or shows a notice, when an alarm comes that nobody has taken. */
export const alerts = (way: Way) => localStorage.getItem(PLACE[way]) === "on";

/** Switches a way on or off; a notice needs the browser's leave. Returns whether it is on now. */
export async function setAlert(way: Way, on: boolean): Promise<boolean> {
  const may = !on || way === "sound" || (await allowed());
  localStorage.setItem(PLACE[way], on && may ? "on" : "off");
  if (on && way === "sound") ring();
  return on && may;
}

async function allowed(): Promise<boolean> {
  if (!("Notification" in window)) return false;
  return (await Notification.requestPermission()) === "granted";
}

/** Two short tones, the second one higher. Browsers play none before somebody has pressed something on the page. */
export function ring(): void {
  if (!("AudioContext" in window)) return;
  const audio = new AudioContext();
  [660, 880].forEach((pitch, n) => {
    const [tone, loud] = [audio.createOscillator(), audio.createGain()];
    const at = audio.currentTime + n * 0.22;
    tone.frequency.value = pitch;
    loud.gain.setValueAtTime(0.0001, at);
    loud.gain.exponentialRampToValueAtTime(0.25, at + 0.03);
    loud.gain.exponentialRampToValueAtTime(0.0001, at + 0.2);
    tone.connect(loud).connect(audio.destination);
    tone.start(at);
    tone.stop(at + 0.21);
  });
  window.setTimeout(() => void audio.close(), 1000);
}

/** Rings and shows a notice when more alarms wait to be taken than before; not while one looks at the past. */
export function useAlert(untaken: number | undefined, live: boolean): void {
  const before = useRef<number | null>(null);
  useEffect(() => {
    if (untaken === undefined || !live) {
      before.current = null;
      return;
    }
    const more = before.current !== null && untaken > before.current;
    before.current = untaken;
    if (!more) return;
    if (alerts("sound")) ring();
    if (alerts("notice") && document.hidden && "Notification" in window && Notification.permission === "granted")
      new Notification("Oculum", { body: `${counted(untaken, "alarm")} nobody has taken`, tag: "oculum-alarms" });
  }, [untaken, live]);
}
