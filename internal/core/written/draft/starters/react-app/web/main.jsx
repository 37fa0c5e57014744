import React, { useEffect, useState } from "react";
import { createRoot } from "react-dom/client";

function Board() {
  const [counts, setCounts] = useState([]);
  const load = () => fetch("/api/passings").then((r) => r.json()).then(setCounts);
  const add = (species) => fetch("/api/passings", { method: "POST", body: JSON.stringify({ species }) }).then(load);
  useEffect(() => { load(); }, []);
  return (
    <>
      <h1>Today at the ladder</h1>
      {["silverfin", "redgill", "weir eel"].map((s) => <button key={s} onClick={() => add(s)}>{s}</button>)}
      <ul>{counts.map((c) => <li key={c.species}>{c.species}: {c.count}</li>)}</ul>
    </>
  );
}

createRoot(document.getElementById("board")).render(<Board />);
