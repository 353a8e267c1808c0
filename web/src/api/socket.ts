const FIRST_MS = 300;
const LONGEST_MS = 5000;

/**
 * A WebSocket of the server that is opened again when it is lost, after growing pauses. `path`: asked for each time.
 * `heard`: a frame; it is told how to begin with short pauses again. `lost`: with which code; whether to go on.
 */
export function connected(
  path: () => string,
  heard: (frame: unknown, well: () => void) => void,
  lost: (code: number) => boolean,
): () => void {
  let socket: WebSocket | null = null;
  let closed = false;
  let pause = FIRST_MS;
  let timer = 0;
  const well = () => {
    pause = FIRST_MS;
  };
  const open = () => {
    const scheme = location.protocol === "https:" ? "wss" : "ws";
    socket = new WebSocket(`${scheme}://${location.host}${path()}`);
    socket.onmessage = (event) => heard(JSON.parse(event.data as string), well);
    socket.onclose = (event) => {
      if (closed || !lost(event.code)) return;
      timer = window.setTimeout(open, pause);
      pause = Math.min(pause * 2, LONGEST_MS);
    };
  };
  open();
  return () => {
    closed = true;
    window.clearTimeout(timer);
    socket?.close();
  };
}
