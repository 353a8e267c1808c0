import { useNavigate } from "react-router";

/** What takes one on when something has been done, unless one has gone elsewhere meanwhile: nobody is pulled back. */
export function useGoOn() {
  const navigate = useNavigate();
  return <Done>(to: (done: Done) => string) => {
    const from = window.location.pathname; // changes at once, while what is shown may still be the place before
    return (done: Done) => {
      if (window.location.pathname === from) void navigate(to(done));
    };
  };
}
