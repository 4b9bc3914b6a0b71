// Tabs that the arrow keys move through.
export function Tabs<T extends string>({ name, tabs, open, onOpen }: { name: string; tabs: [T, string][]; open: T; onOpen: (tab: T) => void }) {
  const move = (event: React.KeyboardEvent) => {
    const step = event.key === "ArrowRight" ? 1 : event.key === "ArrowLeft" ? -1 : 0;
    if (step === 0) return;
    const next = tabs[(tabs.findIndex(([t]) => t === open) + step + tabs.length) % tabs.length];
    if (!next) return;
    onOpen(next[0]);
    (event.currentTarget.children[tabs.indexOf(next)] as HTMLElement | undefined)?.focus();
    event.preventDefault();
  };
  return (
    <div className="nav nav-underline" role="tablist" aria-label={name} onKeyDown={move}>
      {tabs.map(([tab, text]) => (
        <button key={tab} type="button" role="tab" className={`nav-link${tab === open ? " active" : ""}`} aria-selected={tab === open} tabIndex={tab === open ? 0 : -1} onClick={() => onOpen(tab)}>{text}</button>
      ))}
    </div>
  );
}
