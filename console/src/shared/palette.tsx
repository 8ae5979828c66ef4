// The palette: everything that can be found or done, by a few letters of its name.

import { Command as Menu } from "cmdk";
import { useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { api, type Session, type Version } from "./api";
import { openPalette, useCommands, type Command } from "./commands";
import { setTheme } from "./theme";

export function Palette() {
  const { open, sets } = useCommands();
  const navigate = useNavigate();
  const [sessions, setSessions] = useState<Session[]>([]);
  const [contracts, setContracts] = useState<Version[]>([]);
  useEffect(() => {
    const pressed = (e: KeyboardEvent) => {
      if (e.key.toLowerCase() !== "k" || !(e.ctrlKey || e.metaKey)) return;
      e.preventDefault();
      openPalette();
    };
    window.addEventListener("keydown", pressed);
    return () => window.removeEventListener("keydown", pressed);
  }, []);
  useEffect(() => {
    if (!open) return;
    api.sessions().then(setSessions, () => setSessions([]));
    api.contracts().then(setContracts, () => setContracts([]));
  }, [open]);
  const close = () => useCommands.setState({ open: false });
  const go = (name: string, group: string, to: string): Command => ({ name, group, run: () => void navigate(to) });
  const all: Command[] = [
    ...[...sets.values()].flat(),
    go("Sessions", "Pages", "/"),
    go("Contracts", "Pages", "/contracts"),
    go("Drills and audit", "Pages", "/drills"),
    go("Settings", "Pages", "/settings"),
    go("Calls of the API", "Pages", "/calls"),
    ...sessions
      .filter((s) => s.open)
      .map((s) => go(`Session ${s.id} of ${s.contract}`, "Sessions", `/sessions/${s.id}`)),
    ...contracts.map((c) => go(`Contract ${c.contract}`, "Contracts", `/contracts/${c.contract}`)),
    { name: "Light", group: "Colours", run: () => setTheme("light") },
    { name: "Dark", group: "Colours", run: () => setTheme("dark") },
    { name: "As the system has it", group: "Colours", run: () => setTheme("system") },
  ];
  const groups = [...new Set(all.map((c) => c.group))];
  return (
    <Menu.Dialog
      open={open}
      onOpenChange={(now) => useCommands.setState({ open: now })}
      label="Find or do anything"
      overlayClassName="fixed inset-0 z-20 bg-[#14212b]/40"
      contentClassName="fixed top-24 left-1/2 z-20 w-[32rem] -translate-x-1/2 rounded-sm border border-line bg-raised"
    >
      <Menu.Input
        className="h-10 w-full border-b border-line bg-raised px-4 outline-none"
        placeholder="Find or do anything"
      />
      <Menu.List className="max-h-96 overflow-auto p-1">
        <Menu.Empty className="p-3 text-muted">Nothing is called so.</Menu.Empty>
        {groups.map((group) => (
          <Menu.Group key={group} heading={group} className="palette-group">
            {all
              .filter((c) => c.group === group)
              .map((c) => (
                <Menu.Item
                  key={`${group}/${c.name}`}
                  value={`${group} ${c.name}`}
                  className="flex cursor-pointer items-center justify-between rounded-sm px-3 py-1 data-[selected=true]:bg-chosen"
                  onSelect={() => {
                    close();
                    c.run();
                  }}
                >
                  {c.name}
                  {c.key && <kbd className="rounded-sm border border-line px-1 font-mono text-xs">{c.key}</kbd>}
                </Menu.Item>
              ))}
          </Menu.Group>
        ))}
      </Menu.List>
    </Menu.Dialog>
  );
}
