import { useState } from "react";
import { answer, api, type Mended, of } from "../api/client";
import { download } from "../state/download";
import { go } from "../state/location";

/** What can be done about a network of which not all that is kept can be read. */
export function Unreadable({ id }: { id: string }) {
  const [made, setMade] = useState<Mended | null>(null);
  const [error, setError] = useState<Error | null>(null);
  const mend = async () => {
    setError(null);
    try {
      setMade(await answer(api.POST("/api/networks/{network_id}/mend", { params: of(id) })));
    } catch (failure) {
      setError(failure as Error);
    }
  };
  return (
    <>
      <button type="button" className="button ml-2" onClick={() => download(`/api/networks/${id}/kept`)}>
        Take out the stored file
      </button>
      {!made && (
        <button type="button" className="button ml-2" onClick={() => void mend()}>
          Make a network from what can be read
        </button>
      )}
      {error && (
        <p role="alert" className="mt-3 text-clay">
          {error.message}
        </p>
      )}
      {made && (
        <section className="mt-6 max-w-[70ch]" aria-label="What was left out">
          <p role="status">
            A network was made from what can be read. The damaged one stays as it is.{" "}
            <button type="button" className="underline" onClick={() => go({ network: made.id, view: "map" })}>
              Open it
            </button>
          </p>
          <ul className="mt-3 list-disc pl-5">
            {made.left_out.map((each) => (
              <li key={`${each.where} ${each.message}`}>
                {each.where}: {each.message}
              </li>
            ))}
          </ul>
        </section>
      )}
    </>
  );
}
