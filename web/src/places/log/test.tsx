// The slip of a test email: what it said, to whom, and why this row.
import { Link } from "@tanstack/react-router";
import { base } from "../../api/base";
import { api } from "../../api/client";
import { Await } from "../../parts/await";
import { useNow, useZone } from "../../parts/session";
import { Section, Slip } from "../../parts/slip";
import { moment } from "../../parts/time";
import { Said, WrittenBy } from "./said";

export function TestSlip({ id, onClose }: { id: string; onClose: () => void }) {
  const q = api.useQuery("get", "/tests/{test}", { params: { path: { test: id } } });
  const zone = useZone();
  const now = useNow();
  const t = q.data;
  if (!t)
    return (
      <Slip title="Test email" onClose={onClose}>
        <Await query={q} />
      </Slip>
    );
  return (
    <Slip
      title={t.subject}
      onClose={onClose}
      head={
        <span>
          <b className="text-ink">Test</b> of {t.template.name}, row{" "}
          <Link to="/sheets/$sheet" params={{ sheet: t.sheet }} search={{ row: t.row }} className="link">
            {t.rowName}
          </Link>
        </span>
      }
      foot={
        <a className="link" href={`${base}/api/tests/${id}/message.eml`} download={`test-${id}.eml`}>
          Download .eml
        </a>
      }
    >
      <h2 className="mt-1 mb-1 font-letter text-lg! leading-6 font-semibold!">{t.subject}</h2>
      <p className="border-b border-hair pb-3 text-ink-2">
        to {t.to.join(", ")} · <time dateTime={t.at}>{moment(t.at, zone, now)}</time>, sent by {t.by}
      </p>
      <Said html={t.html} text={t.text} files={t.files} />
      {t.why && (
        <Section title="What it shows">
          <p>{t.why}</p>
        </Section>
      )}
      <Section title="For the record">
        <WrittenBy by={t.template} sheet={t.sheet} />
        <p className="font-mono text-[10.5px] leading-[17px] break-all text-ink-2">{t.messageId}</p>
        <p className="text-ink-2">A test is no occasion: no rule counts it, and it holds nothing back.</p>
      </Section>
    </Slip>
  );
}
