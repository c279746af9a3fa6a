import { useEffect, useState } from "react";

/** What is looked at. It stands in the address, so that a view can be kept, sent and gone back to. */
export interface Address {
  readonly as: string;
  readonly beside: string;
  readonly table: string;
}

const start: Address = { as: "s-003", beside: "", table: "objects" };

function read(): Address {
  const given = new URLSearchParams(window.location.hash.slice(1));
  return {
    as: given.get("as") ?? start.as,
    beside: given.get("beside") ?? start.beside,
    table: given.get("table") ?? start.table,
  };
}

export function useAddress(): [Address, (change: Partial<Address>) => void] {
  const [address, setAddress] = useState(read);
  useEffect(() => {
    const follow = () => setAddress(read());
    window.addEventListener("hashchange", follow);
    return () => window.removeEventListener("hashchange", follow);
  }, []);
  const go = (change: Partial<Address>) => {
    const next = Object.entries({ ...address, ...change }).filter(([, value]) => value !== "");
    window.location.hash = new URLSearchParams(next).toString();
  };
  return [address, go];
}
