// The first sign-in of a real installation, on one page: from whom emails go out, a try, the first
// sheet. It can be left at any time, and come back to from Today.
import { Link, useNavigate } from "@tanstack/react-router";
import { type ReactNode, useState } from "react";
import { api, http, type Schemas } from "../../api/client";
import { useWrite } from "../../api/write";
import { Await } from "../../parts/await";
import { DropRows, handOver } from "../../parts/dropfile";
import { RowsFile } from "../../parts/rowsfile";
import { useSession } from "../../parts/session";
import { WriteState } from "../../parts/writestate";
import { pickSave, SenderForm } from "../setup/senders";

export function StartPlace(): ReactNode {
  const senders = api.useQuery("get", "/setup/senders");
  const sheets = api.useQuery("get", "/sheets");
  return (
    <Await query={senders}>
      {(from) => <Await query={sheets}>{(of) => <Start senders={from} sheets={of} />}</Await>}
    </Await>
  );
}

function Start({ senders, sheets }: { senders: Schemas["Sender"][]; sheets: Schemas["Sheet"][] }) {
  const navigate = useNavigate();
  const session = useSession();
  const sender = senders[0];
  const bring = (file: File) => {
    handOver(file);
    void navigate({ to: "/sheets/new" });
  };
  return (
    <DropRows onFile={bring} words="Drop the file to make a sheet of its rows">
      <div className="min-h-0 flex-1 overflow-auto px-5 pt-[18px] pb-8">
        <div className="flex items-baseline gap-6">
          <h1>
            <b>Welcome, {session.person?.name}.</b> From whom emails go out, a try, and a first sheet; in any order,
            now or later.
          </h1>
          <Link to="/" className="link ml-auto">
            Leave this page
          </Link>
        </div>
        <Step title="From whom emails go out" done={sender !== undefined}>
          {sender ? (
            <>
              <p>
                {sender.name} &lt;{sender.address}&gt;, over {sender.host}.{" "}
                <Link to="/setup/{-$part}" params={{ part: "senders" }} className="link">
                  Change it, or add another
                </Link>
              </p>
              <Try sender={sender} />
            </>
          ) : (
            <>
              <p className="text-ink-2">
                A mail account of yours. Its provider says which server, port and user name it has. The password is
                sealed, and never shown again.
              </p>
              <SenderForm brief />
            </>
          )}
        </Step>
        <Step title="The first sheet" done={sheets.length > 0}>
          {sheets.length > 0 && (
            <p className="mb-2">
              There {sheets.length === 1 ? "is" : "are"} already{" "}
              {sheets.map((s, i) => (
                <span key={s.id}>
                  {i > 0 && ", "}
                  <Link to="/sheets/$sheet" params={{ sheet: s.id }} className="link">
                    {s.name}
                  </Link>
                </span>
              ))}
              .
            </p>
          )}
          <p className="mb-2 text-ink-2">
            A CSV file or a workbook whose first row names the columns: drop it anywhere here, or choose it. Nothing is
            written before you have seen what each column is read as.
          </p>
          <RowsFile onFile={bring} />
          <p className="mt-2">
            <Link to="/sheets/new" className="link">
              Other ways to begin
            </Link>
          </p>
        </Step>
        <Step title="And then" done={false}>
          <p className="text-ink-2">
            A rule says in a sentence when a row deserves an email, and a template what the email says. Nothing goes
            out before you have switched a rule on, and its first emails wait for your review.
          </p>
          <p className="mt-1">
            <Link to="/setup/{-$part}" params={{ part: "people" }} className="link">
              Invite colleagues
            </Link>
          </p>
        </Step>
      </div>
    </DropRows>
  );
}

function Step({ title, done, children }: { title: string; done: boolean; children: ReactNode }) {
  return (
    <section className="mt-6 max-w-3xl border-t border-hair pt-4">
      <h2 className="mb-1.5">
        {title}
        {done && <span className="ml-3 font-[450] text-juniper">done</span>}
      </h2>
      {children}
    </section>
  );
}

function Try({ sender }: { sender: Schemas["Sender"] }) {
  const session = useSession();
  const [said, setSaid] = useState<Schemas["Tried"]>();
  const attempt = useWrite<void, Schemas["Tried"]>({
    write: () => http.POST("/setup/senders/try", { body: { sender: pickSave(sender), id: sender.id } }),
    after: setSaid,
    quiet: true,
  });
  return (
    <>
      <p className="mt-2 flex flex-wrap items-center gap-4">
        <button type="button" className="act-plain" disabled={attempt.busy} onClick={() => void attempt.do()}>
          Send me a test email
        </button>
        <span className="text-ink-2">to {session.person?.email}</span>
      </p>
      <p className="mt-1 min-h-5">
        {said && !attempt.busy && !attempt.failed ? (
          <span role="status" className={said.ok ? "text-juniper" : "text-brick"}>
            {said.said}
          </span>
        ) : (
          <WriteState of={[attempt]} doing="Trying …" />
        )}
      </p>
    </>
  );
}
