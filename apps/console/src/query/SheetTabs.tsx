// The open sheets.
import { type Sheet, addSheet, closeSheet, openSheet } from "./sheets";
import { say } from "../shared/words";

function title(sheet: Sheet): string {
  const line = sheet.text.split("\n").find((l) => l.trim() !== "")?.trim().replace(/^(\/\/|--)\s*/, "") ?? "";
  return line === "" ? say("New query") : line.length > 28 ? `${line.slice(0, 27)}…` : line;
}

export function SheetTabs({ sheets, open }: { sheets: Sheet[]; open: number }) {
  return (
    <div className="sheets" role="group" aria-label={say("Sheets")}>
      {sheets.map((sheet) => (
        <span key={sheet.id} className={sheet.id === open ? "sheet is-open" : "sheet"}>
          <button type="button" aria-current={sheet.id === open ? "true" : undefined} onClick={() => openSheet(sheet.id)}>{title(sheet)}{sheet.run?.abort ? " …" : ""}</button>
          {sheets.length > 1 && <button type="button" className="sheet-close" aria-label={say("Close {{sheet}}", { sheet: title(sheet) })} onClick={() => closeSheet(sheet.id)}>×</button>}
        </span>
      ))}
      <button type="button" className="sheet-add" aria-label={say("New sheet")} onClick={addSheet}>+</button>
    </div>
  );
}
