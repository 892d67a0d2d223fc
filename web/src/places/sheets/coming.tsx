// One email that is to come for a row, and what a person may say of it: that it
// is left out, goes a day later or earlier, or that its follow-ups end with it.
import { DropdownMenu } from "radix-ui";
import { http, type Schemas, type Sheet } from "../../api/client";
import { ofEmails } from "../../api/keys";
import { useWrite } from "../../api/write";
import { MarkIcon } from "../../parts/mark";
import { useNow } from "../../parts/session";
import { moment } from "../../parts/time";

type Email = Schemas["RowEmail"];
type Say = Schemas["SayOfEmail"];

export function ComingEmail({ sheet, row, email, may }: { sheet: Sheet; row: string; email: Email; may: boolean }) {
  const now = useNow();
  const at = (t: string) => moment(t, sheet.zone, now);
  const say = useWrite<Say>({
    write: (body) =>
      http.POST("/sheets/{sheet}/rows/{row}/coming/{rule}/{occasion}", {
        params: { path: { sheet: sheet.id, row, rule: email.rule, occasion: email.occasion } },
        body,
      }),
    changes: ofEmails,
  });
  const out = email.said === "leave-out" || email.said === "end-chain";
  const name = email.step ? `follow-up ${email.step}${email.again ? `, time ${email.again + 1}` : ""}` : "";
  return (
    <div className="flex items-start gap-2 border-b border-hair-2 py-1">
      {email.step > 0 && <span aria-hidden className="ml-1.5 h-3 w-3 flex-none border-b border-l border-ink-2/50" />}
      <MarkIcon
        letter={email.letter}
        kind={out ? "skipped" : email.outcome === "incomplete" ? "incomplete" : "coming"}
      />
      <span className={`w-28 flex-none whitespace-nowrap ${out ? "text-ink-2 line-through" : ""}`}>
        {at(email.at)}
      </span>
      <span className="min-w-0 flex-1">
        <span className={out ? "text-ink-2 line-through" : ""}>
          {email.outcome === "incomplete" ? <span className="text-brick">{email.reason}</span> : email.subject}
        </span>
        <span className="block truncate text-ink-2">{[name, email.to].filter(Boolean).join(", to ")}</span>
        {email.settles && !out && <span className="block text-ink-2">once the row has settled</span>}
        {email.said && (
          <span className="block text-marigold">
            {out
              ? `${email.said === "end-chain" ? "Left out with what follows it" : "Left out"} by ${email.by}${email.why ? `: ${email.why}` : ""}`
              : `Moved by ${email.by} from ${at(email.foreseen ?? email.at)}`}
          </span>
        )}
      </span>
      {may && (
        <DropdownMenu.Root modal={false}>
          <DropdownMenu.Trigger
            className="link flex-none"
            aria-label={`Change ${name || "this email"} of ${at(email.at)}`}
          >
            change
          </DropdownMenu.Trigger>
          <DropdownMenu.Portal>
            <DropdownMenu.Content className="pop min-w-56 p-1.5 text-[13px]" align="end" sideOffset={4}>
              {email.said && (
                <Item onSelect={() => void say.do({ what: "as-it-comes" })}>
                  {out ? "Send it after all" : "At its own time again"}
                </Item>
              )}
              {!out && (
                <>
                  <Item onSelect={() => void say.do({ what: "leave-out" })}>Don’t send</Item>
                  {email.step > 0 && (
                    <Item onSelect={() => void say.do({ what: "end-chain" })}>
                      End the follow-ups: don’t send this and the later ones
                    </Item>
                  )}
                  {!email.settles && (
                    <>
                      <Item onSelect={() => void say.do({ what: "shift", days: 1 })}>A day later</Item>
                      <Item onSelect={() => void say.do({ what: "shift", days: -1 })}>A day earlier</Item>
                    </>
                  )}
                </>
              )}
            </DropdownMenu.Content>
          </DropdownMenu.Portal>
        </DropdownMenu.Root>
      )}
    </div>
  );
}

function Item({ onSelect, children }: { onSelect: () => void; children: React.ReactNode }) {
  return (
    <DropdownMenu.Item
      className="cursor-pointer rounded-sm px-2 py-1 outline-none data-[highlighted]:bg-wash"
      onSelect={onSelect}
    >
      {children}
    </DropdownMenu.Item>
  );
}
