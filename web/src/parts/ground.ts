/** Light or dark: the background of every screen, kept in this browser. */
export const groundNow = () => (document.documentElement.dataset.ground === "dark" ? "dark" : "light");

/** The ground as it was left in this browser, else as the system has it. */
export function showGround() {
  const ground = localStorage.getItem("oculum.ground");
  const dark = ground ? ground === "dark" : matchMedia("(prefers-color-scheme: dark)").matches;
  document.documentElement.dataset.ground = dark ? "dark" : "light";
}

export function setGround(ground: "light" | "dark") {
  localStorage.setItem("oculum.ground", ground);
  document.documentElement.dataset.ground = ground;
}
