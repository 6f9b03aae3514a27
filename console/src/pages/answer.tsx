import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { call, Problem, type Question } from "../api/client";
import { Button } from "../parts/button";
import { Reason, Shown } from "./awaited";

interface Asked {
  run: string;
  task: string;
  person: string;
  question: Question;
}

/** AnswerPage is where a link to a question leads: it is answered there, once, without signing in. */
export function AnswerPage() {
  const [code] = useState(() => new URLSearchParams(location.hash.slice(1)).get("code") ?? "");
  const [reason, setReason] = useState("");
  const path = `/answers/${encodeURIComponent(code)}`;
  const answer = useMutation({ mutationFn: (word: "yes" | "no") => call("POST", path, { answer: word, reason }) });
  const asked = useQuery({ queryKey: ["answer", code], queryFn: () => call<Asked>("GET", path), retry: false, enabled: !answer.isSuccess, refetchOnWindowFocus: false });
  const trouble = answer.error ?? asked.error;
  return (
    <main className="grid min-h-screen place-items-center px-6 py-10">
      <div className="w-[min(34rem,100%)]">
        <img src="/lantern.svg" alt="" width={44} height={44} />
        {answer.isSuccess ? (
          <>
            <h1 className="mt-5 text-2xl font-semibold tracking-tight">You said {answer.variables}</h1>
            <p role="status" className="mt-2 text-soft">
              It is recorded, and the run goes on. This link is used up; you can close the page.
            </p>
          </>
        ) : trouble ? (
          <>
            <h1 className="mt-5 text-2xl font-semibold tracking-tight">There is no question here</h1>
            <p role="alert" className="mt-2 text-failed">
              ✕ {trouble instanceof Problem ? trouble.message : "the service does not answer; try again when it is back"}
            </p>
          </>
        ) : !asked.data ? (
          <p role="status" className="mt-5 text-soft">
            Reading the question…
          </p>
        ) : (
          <>
            <p className="mt-5 text-soft">
              {asked.data.task} of {asked.data.run} asks {asked.data.person}
            </p>
            <h1 className="mt-1 text-2xl font-semibold tracking-tight">{asked.data.question.ask}</h1>
            <div className="mt-3 mb-5">
              <Shown question={asked.data.question} />
            </div>
            <Reason value={reason} onChange={setReason} />
            <div className="mt-5 flex gap-2">
              <Button look="lamp" disabled={answer.isPending} onClick={() => answer.mutate("yes")}>
                Yes
              </Button>
              <Button disabled={answer.isPending} onClick={() => answer.mutate("no")}>
                No
              </Button>
            </div>
          </>
        )}
      </div>
    </main>
  );
}
