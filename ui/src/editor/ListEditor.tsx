import { closeCompletion } from "@codemirror/autocomplete";
import type { EditorView } from "@codemirror/view";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import type { AccessList, Intent, ProblemItem } from "../api/client";
import { useTypedPackets } from "../api/computed";
import { useCounters } from "../api/queries";
import { useListReading } from "../api/reading";
import { Failed } from "../kit/Failed";
import { clear, fail } from "../kit/notices";
import { ListPackets } from "../marks/PacketChanges";
import { useFocusTaker } from "../state/focus";
import { useSettled } from "../state/useSettled";
import { useOpened } from "../workbench/opened";
import { showTrial } from "../workbench/trial";
import { hitsOf, linesOf } from "./counters";
import { Covers, Elsewhere, FirstLines, IdleEntries, ImplicitEnd, Problems } from "./EditorNotes";
import { TidyList } from "./Tidy";
import { useEntriesEditor, useMarks } from "./useEntriesEditor";
import { useTypedText } from "./useTypedText";

/** Milliseconds without a keystroke before the server is asked. */
const SETTLE = 40;
/** A mark on a whole line. */
const WHOLE = { where: "", column: 1, end: 10_000 };

interface Props {
  list: AccessList;
  /** The placement whose counters are shown; all of them together when there is none. */
  point?: string;
}

/** A list as text: typed, read by the server at each pause, tried on the test flows, and saved. */
export function ListEditor({ list, point }: Props) {
  const { id, draft } = useOpened();
  const counters = useCounters(id);
  const counts = counters.data;
  const hits = useMemo(() => hitsOf(counts ?? [], list.name, point ?? null), [counts, list.name, point]);
  const view = useRef<EditorView | null>(null);
  const show = useCallback((insert: string) => {
    const editor = view.current;
    if (editor && editor.state.doc.toString() !== insert) {
      editor.dispatch({ changes: { from: 0, to: editor.state.doc.length, insert } });
    }
  }, []);
  const saved = list.entries ?? "";
  const { text, setText, dirty, elsewhere, take } = useTypedText(id, list.name, saved, show);
  const { reading, current, problems, settled } = useRead(list, text);
  useTried(list, settled, dirty, current && dirty && problems.length === 0);

  // What is said of the margin is said of the text that was read.
  const idle = useMemo(
    () => (current ? linesOf(settled, reading.data?.formatted ?? "", reading.data?.idle ?? []) : []),
    [current, settled, reading.data],
  );
  const never = useMemo(
    () => new Set(idle.flatMap(([line, { matched }]) => (matched ? [] : [line]))),
    [idle],
  );
  const told = useMemo(
    () => idle.map(([line, each]): ProblemItem => ({ ...WHOLE, line, message: each.text })),
    [idle],
  );

  const save = async () => {
    clear();
    if (view.current) closeCompletion(view.current);
    const written = view.current?.state.doc.toString() ?? text;
    try {
      const after = await draft.carryOut(putting(list, written));
      take(after.draft.lists.find((each) => each.name === list.name)?.entries ?? "");
    } catch (error) {
      fail(error);
    }
  };
  const host = useEntriesEditor(view, {
    network: id,
    list,
    text,
    hits,
    never,
    onText: setText,
    onSave: save,
  });
  useMarks(view, problems, told, current);
  const toEnd = () => {
    const editor = view.current;
    editor?.dispatch({ selection: { anchor: editor.state.doc.length } });
    editor?.focus();
  };
  useFocusTaker(`list:${list.name}`, toEnd);
  const add = (line: string) => {
    const before = view.current?.state.doc.toString().trimEnd();
    show(`${before ? `${before}\n` : ""}${line}\n`);
    toEnd();
  };

  const [tidying, setTidying] = useState(false);
  const renumbered = current ? reading.data?.renumbered : undefined;
  return (
    <section aria-label={`List ${list.name}`}>
      <div className="border-y border-rule bg-plate" ref={host} />
      <ImplicitEnd list={list} hits={hits.get(0) ?? 0} />
      <Failed of={reading} />
      <Failed of={counters} />
      {saved.trim() === "" && <FirstLines list={list} onTake={add} />}
      <Problems problems={problems} />
      <IdleEntries idle={idle} />
      {dirty && problems.length === 0 && <TypedPackets list={list} text={settled} reads={current} />}
      {elsewhere && <Elsewhere saved={saved} />}
      <Buttons
        dirty={dirty}
        elsewhere={elsewhere}
        savable={problems.length === 0 && !draft.saving}
        onSave={save}
        onBack={() => take(saved)}
        renumbered={renumbered && renumbered !== text ? () => show(renumbered) : null}
        tidying={tidying}
        onTidy={current && problems.length === 0 ? () => setTidying(!tidying) : null}
      />
      {tidying && current && problems.length === 0 && (
        <TidyList
          list={list}
          text={text}
          onTake={(entries) => {
            show(entries);
            setTidying(false);
          }}
          onClose={() => setTidying(false)}
        />
      )}
      <Covers covers={(!dirty && reading.data?.covers) || []} />
    </section>
  );
}

/**
 * What the typed entries permit that the saved ones do not, and the other way round.
 *
 * `reads`: whether the text is known to be without mistakes; the last one that was is asked about.
 */
function TypedPackets({ list, text, reads }: { list: AccessList; text: string; reads: boolean }) {
  const { id, network } = useOpened();
  const [asked, setAsked] = useState<string | null>(null);
  useEffect(() => {
    if (reads) setAsked(text);
  }, [reads, text]);
  const found = useTypedPackets(id, network.version, list, asked ?? "", asked !== null);
  return (
    <section aria-label="What this edit changes" className="px-3 pt-2 text-fine">
      <Failed of={found} className="" />
      {found.data && (
        <div className={found.isPlaceholderData ? "opacity-60" : undefined}>
          <ListPackets of={found.data} />
        </div>
      )}
    </section>
  );
}

interface ButtonsProps {
  dirty: boolean;
  /** Whether somebody else saved the list meanwhile. */
  elsewhere: boolean;
  savable: boolean;
  onSave: () => void;
  onBack: () => void;
  renumbered: (() => void) | null;
  tidying: boolean;
  onTidy: (() => void) | null;
}

function Buttons(props: ButtonsProps) {
  const { dirty, elsewhere, savable, onSave, onBack, renumbered, tidying, onTidy } = props;
  return (
    <div className="flex flex-wrap items-center gap-2 px-3 py-2">
      <button type="button" className="button button-strong" disabled={!dirty || !savable} onClick={onSave}>
        {elsewhere ? "Save mine over it" : "Save to draft"}
      </button>
      <button type="button" className="button" disabled={!dirty} onClick={onBack}>
        {elsewhere ? "Take theirs" : "Undo typing"}
      </button>
      <button type="button" className="button" disabled={!renumbered} onClick={() => renumbered?.()}>
        Renumber
      </button>
      <button
        type="button"
        className="button aria-pressed:border-ink"
        aria-pressed={tidying}
        disabled={!onTidy}
        title="The fewest entries that decide the same"
        onClick={() => onTidy?.()}
      >
        Tidy…
      </button>
      <span className="quiet text-fine">{dirty ? "not saved yet" : "saved in the draft"}</span>
    </div>
  );
}

const NO_PROBLEMS: ProblemItem[] = [];

/** What the server makes of the text once it rests. `current`: it is about the text that stands there. */
function useRead({ name, family, kind }: AccessList, text: string) {
  const { id, network } = useOpened();
  const settled = useSettled(text, SETTLE);
  const reading = useListReading(id, network.version, { name, family, kind, entries: settled });
  const current = settled === text && !reading.isPlaceholderData && reading.data !== undefined;
  return { reading, current, problems: reading.data?.problems ?? NO_PROBLEMS, settled };
}

/** What is typed is tried on the test flows while it reads; nothing is tried once it is saved or taken back. */
function useTried(list: AccessList, settled: string, dirty: boolean, clean: boolean) {
  useEffect(() => {
    if (clean) {
      const intent = putting(list, settled);
      showTrial({ list: list.name, label: `edit ${list.name}`, intent, kind: "typed" });
    } else if (!dirty) showTrial(null);
  }, [clean, dirty, settled, list]);
  useEffect(() => () => showTrial(null), []);
}

/** A list with other entries. */
const putting = (list: AccessList, entries: string): Intent => ({
  do: "put",
  label: `edit ${list.name}`,
  collection: "lists",
  item: { ...list, entries },
});
