// The fields of an argument, by its type: choices, numbers, entities and clients by name, parts one by one.

import { Plus, X } from "lucide-react";
import type { Type } from "../shared/api";
import { nameOf, things } from "./copy";
import { draftOf, nearestStep, rangeOf, type Draft } from "./draft";
import { pick } from "./pick";
import { useWatch } from "./watch";

type Props = { label: string; type: Type; draft: Draft; onChange: (draft: Draft) => void };

export function Field(props: Props) {
  const { type } = props;
  switch (type.form) {
    case "enum":
      return <Choice {...props} choices={(type.enum?.values ?? []).map((v) => [v, v])} />;
    case "bool":
      return <Choice {...props} choices={["false", "true"].map((v) => [v, v])} />;
    case "kind":
      return <Choice {...props} choices={(type.kinds ?? []).map((v) => [v, v])} />;
    case "ref":
      return <Entity {...props} />;
    case "client":
      return <ClientField {...props} />;
    case "vec2":
    case "vec3":
    case "direction":
    case "rotation":
      return <Parts {...props} />;
    case "list":
      return <Several {...props} />;
    case "map":
      return <Pairs {...props} />;
    case "record":
      return <Record {...props} />;
    default:
      return <Text {...props} />;
  }
}

function Text({ label, type, draft, onChange }: Props) {
  const range = ["int", "real"].includes(type.form) ? ` ${rangeOf(type).join(" to ")}` : "";
  const hint =
    type.form === "time"
      ? ` ${rangeOf(type).join(" to ")} milliseconds`
      : type.form === "text"
        ? ` at most ${type.max} characters`
        : type.form === "instant"
          ? " milliseconds of the session's clock"
          : range;
  return (
    <label className="block">
      {label}
      <span className="text-muted">{hint}</span>
      <input className="field value" value={String(draft)} onChange={(e) => onChange(e.target.value)} />
    </label>
  );
}

function Choice({ label, draft, onChange, choices }: Props & { choices: [value: string, words: string][] }) {
  return (
    <label className="block">
      {label}
      <select className="field" value={String(draft)} onChange={(e) => onChange(e.target.value)}>
        {choices.map(([value, words]) => (
          <option key={value} value={value}>
            {words}
          </option>
        ))}
      </select>
    </label>
  );
}

function Entity(props: Props) {
  const { server } = useWatch();
  const wanted = things(server).filter((t) => !props.type.kinds || props.type.kinds.includes(t.kind));
  const choices = wanted.map((t): [string, string] => [String(t.entity), nameOf(server.clients, t)]);
  return (
    <div>
      <Choice {...props} choices={[["null", "nothing"], ...choices]} />
      <button
        type="button"
        className="link text-xs"
        onClick={() =>
          pick({
            what: "entity",
            words: `\`${props.label}\` is`,
            kinds: props.type.kinds,
            take: (n) => props.onChange(String(n)),
          })
        }
      >
        pick on the map
      </button>
    </div>
  );
}

function ClientField(props: Props) {
  const { columns } = useWatch();
  const choices = columns.map((c): [string, string] => [String(c.number), c.name]);
  return <Choice {...props} choices={[["null", "nothing"], ["0", "server"], ...choices]} />;
}

function Parts({ label, type, draft, onChange }: Props) {
  const parts = draft as string[];
  return (
    <fieldset>
      <legend>
        {label}
        {type.form === "vec2" && (
          <button
            type="button"
            className="link ml-2 text-xs"
            onClick={() =>
              pick({
                what: "place",
                words: `\`${label}\` is`,
                take: (place) => onChange(place.map((v) => String(nearestStep(type, v)))),
              })
            }
          >
            pick on the map
          </button>
        )}
        {type.form === "rotation" && <span className="text-muted"> a quaternion</span>}
      </legend>
      <div className="flex gap-2">
        {parts.map((part, i) => (
          <input
            key={"xyzw"[i]}
            className="field value"
            aria-label={`${label}.${"xyzw"[i]}`}
            value={part}
            onChange={(e) => onChange(parts.map((p, j) => (j === i ? e.target.value : p)))}
          />
        ))}
      </div>
    </fieldset>
  );
}

function Several({ label, type, draft, onChange }: Props) {
  const items = draft as Draft[];
  const of = type.of as Type;
  return (
    <Row
      label={label}
      hint={`${items.length} of at most ${type.max}`}
      count={items.length}
      most={type.max ?? 0}
      onAdd={() => onChange([...items, draftOf(of)])}
      onRemove={(i) => onChange(items.filter((_, j) => j !== i))}
      field={(i) => (
        <Field
          label={`${label}[${i}]`}
          type={of}
          draft={items[i] as Draft}
          onChange={(d) => onChange(items.map((x, j) => (j === i ? d : x)))}
        />
      )}
    />
  );
}

function Pairs({ label, type, draft, onChange }: Props) {
  const pairs = draft as [Draft, Draft][];
  const [key, of] = [type.key as Type, type.of as Type];
  const put = (i: number, pair: [Draft, Draft]) => onChange(pairs.map((x, j) => (j === i ? pair : x)));
  return (
    <Row
      label={label}
      hint={`${pairs.length} of at most ${type.max} keys`}
      count={pairs.length}
      most={type.max ?? 0}
      onAdd={() => onChange([...pairs, [draftOf(key), draftOf(of)]])}
      onRemove={(i) => onChange(pairs.filter((_, j) => j !== i))}
      field={(i) => {
        const [k, v] = pairs[i] as [Draft, Draft];
        return (
          <>
            <Field label={`key ${i + 1}`} type={key} draft={k} onChange={(d) => put(i, [d, v])} />
            <Field label={`value ${i + 1}`} type={of} draft={v} onChange={(d) => put(i, [k, d])} />
          </>
        );
      }}
    />
  );
}

function Row(props: {
  label: string;
  hint: string;
  count: number;
  most: number;
  onAdd: () => void;
  onRemove: (i: number) => void;
  field: (i: number) => React.ReactNode;
}) {
  return (
    <fieldset>
      <legend>
        {props.label} <span className="text-muted">{props.hint}</span>
      </legend>
      {Array.from({ length: props.count }, (_, i) => (
        <div key={i} className="flex items-end gap-1 pl-2">
          <div className="min-w-0 flex-1">{props.field(i)}</div>
          <button
            className="plain"
            type="button"
            aria-label={`Remove ${props.label}[${i}]`}
            onClick={() => props.onRemove(i)}
          >
            <X size={12} />
          </button>
        </div>
      ))}
      {props.count < props.most && (
        <button className="plain" type="button" aria-label={`Add to ${props.label}`} onClick={props.onAdd}>
          <Plus size={14} />
        </button>
      )}
    </fieldset>
  );
}

function Record({ label, type, draft, onChange }: Props) {
  const fields = draft as { [field: string]: Draft };
  return (
    <fieldset className="border-l border-line pl-2">
      <legend>
        {label} <span className="text-muted">{type.name}</span>
      </legend>
      {(type.fields ?? []).map((f) => (
        <Field
          key={f.name}
          label={f.name}
          type={f.type}
          draft={fields[f.name] as Draft}
          onChange={(d) => onChange({ ...fields, [f.name]: d })}
        />
      ))}
    </fieldset>
  );
}
