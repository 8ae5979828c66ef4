// Stopping the page at a moment, going back over what is kept, and playing what is over at its own pace.

import { Pause, Play } from "lucide-react";
import { useEffect, useState } from "react";
import { Slider } from "radix-ui";
import { useKeys } from "./keys";
import { showMoment, toggleMoment, useWatch } from "./watch";

export function Moment() {
  const moment = useWatch((s) => s.moment);
  const tick = useWatch((s) => s.tick);
  const isOver = useWatch((s) => s.phase !== "live" || s.id === 0);
  const plays = isOver && moment !== undefined;
  const [playing, togglePlaying] = usePlaying(plays);
  useKeys({
    " ": plays ? togglePlaying : toggleMoment,
    "[": () => showMoment(tick - 1),
    "]": () => moment && showMoment(tick + 1),
  });
  return (
    <div className="flex items-center gap-3 text-xs" role="group" aria-label="The moment that is shown">
      {moment && (
        <>
          <span>
            tick <span className="value">{tick.toLocaleString("en")}</span>
          </span>
          <Slider.Root
            className="relative flex h-6 w-56 items-center"
            min={moment.from}
            max={Math.max(moment.to, moment.from + 1)}
            value={[tick]}
            onValueChange={([to]) => showMoment(to as number)}
          >
            <Slider.Track className="relative h-1 grow rounded-sm bg-line">
              <Slider.Range className="absolute h-full rounded-sm bg-act" />
            </Slider.Track>
            <Slider.Thumb className="block h-4 w-2 rounded-sm bg-act" aria-label="Tick that is shown" />
          </Slider.Root>
        </>
      )}
      {plays && (
        <button className="flex h-6 cursor-pointer items-center gap-1 px-1 text-act" onClick={togglePlaying}>
          {playing ? <Pause size={12} aria-hidden="true" /> : <Play size={12} aria-hidden="true" />}
          {playing ? "Stop here" : "Play"}{" "}
          <kbd className="rounded-sm border border-line px-1 font-mono text-muted">Space</kbd>
        </button>
      )}
      {!plays && (
        <button className="flex h-6 cursor-pointer items-center gap-1 px-1 text-act" onClick={toggleMoment}>
          {moment ? <Play size={12} aria-hidden="true" /> : <Pause size={12} aria-hidden="true" />}
          {moment ? "Go on live" : "Stop here"}{" "}
          <kbd className="rounded-sm border border-line px-1 font-mono text-muted">Space</kbd>
        </button>
      )}
    </div>
  );
}

// usePlaying shows one tick after the other at the contract's pace while it plays, up to the last one that there is. To
// play at the end begins anew.
function usePlaying(possible: boolean): [boolean, () => void] {
  const [playing, setPlaying] = useState(false);
  const rate = useWatch((s) => s.outline?.tick ?? 20);
  useEffect(() => {
    if (!playing || !possible) return;
    const timer = setInterval(() => {
      const { tick, moment } = useWatch.getState();
      if (!moment || tick >= moment.to) setPlaying(false);
      else showMoment(tick + 1);
    }, 1000 / rate);
    return () => clearInterval(timer);
  }, [playing, possible, rate]);
  const toggle = () => {
    const { tick, moment } = useWatch.getState();
    if (!playing && moment && tick >= moment.to) showMoment(moment.from);
    setPlaying(!playing);
  };
  return [playing && possible, toggle];
}
