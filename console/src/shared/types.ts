// Types of a contract, as people read them.

import type { Type } from "./api";

export function typeWords(t: Type): string {
  const range = () => {
    const step = (t.unit ?? 1) / (t.per ?? 1);
    return `${(t.low ?? 0) * step}..${(t.high ?? 0) * step}`;
  };
  switch (t.form) {
    case "int":
    case "real":
    case "time":
      return `${t.form} ${range()}`;
    case "text":
      return `text max ${t.max}`;
    case "enum":
      return t.enum?.name ?? "enum";
    case "stacks":
      return `stacks<${t.enum?.name}> max ${t.max} each ${t.each}${t.slotted ? " slotted" : ""}`;
    case "list":
      return `list<${typeWords(t.of as Type)}> max ${t.max}`;
    case "map":
      return `map<${typeWords(t.key as Type)}, ${typeWords(t.of as Type)}> max ${t.max}`;
    case "ref":
      return (t.kinds ?? []).join(" or ") || "entity";
    case "record":
      return t.name ?? "record";
    default:
      return t.form;
  }
}

export function paramWords(params: { name: string; type: Type }[]): string {
  return params.map((p) => `${p.name}: ${typeWords(p.type)}`).join(", ");
}
