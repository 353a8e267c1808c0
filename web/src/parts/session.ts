import { api, got, setCsrf } from "../api/client";

/** Ends the session and loads the page anew, so that nothing of it stays in memory. */
export async function signOut() {
  await got(api.POST("/api/v1/sign-out"));
  setCsrf("");
  window.location.assign("/");
}
