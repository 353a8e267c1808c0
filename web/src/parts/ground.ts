/** Light or dark: the background of every screen, kept in this browser. */
export const groundNow = () => (document.documentElement.dataset.ground === "dark" ? "dark" : "light");

export function setGround(ground: "light" | "dark") {
  localStorage.setItem("oculum.ground", ground);
  document.documentElement.dataset.ground = ground;
}
