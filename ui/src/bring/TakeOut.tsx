import { useQuery } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { answer, api, of } from "../api/client";
import { Failed } from "../kit/Failed";
import { Sheet } from "../kit/Sheet";
import { download } from "../state/download";

interface TakeOutProps {
  id: string;
  version: number;
  onClose: () => void;
}

/** Every format that a network can be taken out in, with what it would lose, before the file is given. */
export function TakeOut({ id, version, onClose }: TakeOutProps) {
  const ways = useQuery({
    queryKey: ["out", id, version],
    queryFn: () => answer(api.GET("/api/networks/{network_id}/out", { params: of(id) })),
  });
  return (
    <Sheet open onClose={onClose} className="top-[8%] flex max-h-[84vh] w-[44rem] max-w-[94vw] flex-col p-5">
      <Dialog.Title className="mb-3 text-head font-semibold">Take out</Dialog.Title>
      <Failed of={ways} className="" />
      <div className="min-h-0 overflow-y-auto pr-2">
        {ways.data?.map((way) => (
          <section key={way.format} aria-label={way.title} className="border-t border-rule py-3">
            <div className="flex items-center gap-2">
              <h3 className="mr-auto font-semibold">{way.title}</h3>
              {(["draft", "running"] as const).map((state) => (
                <button
                  key={state}
                  type="button"
                  className="button"
                  onClick={() => download(`/api/networks/${id}/out/${way.format}?state=${state}`)}
                >
                  {state === "draft" ? "The draft" : "What is running"}
                </button>
              ))}
            </div>
            {way.loses.length === 0 && way.left_out_count === 0 && (
              <p className="quiet">Everything of this network is in it.</p>
            )}
            {way.loses.map((sentence) => (
              <p key={sentence} className="quiet">
                {sentence}
              </p>
            ))}
            {way.left_out_count > 0 && (
              <>
                <p className="mt-1 text-ochre">Of this draft: {way.left_out_count}</p>
                <ul className="text-fine">
                  {way.left_out.map((notice, index) => (
                    <li key={index} className="border-t border-rule py-0.5">
                      {notice.where}: <span className="quiet">{notice.message}</span>
                    </li>
                  ))}
                </ul>
              </>
            )}
          </section>
        ))}
      </div>
      <div className="mt-3 text-right">
        <Dialog.Close className="button">Close</Dialog.Close>
      </div>
    </Sheet>
  );
}
