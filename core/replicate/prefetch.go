package replicate

import "kamerad.example/core/world"

// Prefetch reads what MarkWritten is about to read of some entities, so that the waits for memory overlap. See
// world.Prefetch for what that brings.
func (v *View) Prefetch(list []*world.Entity) {
	v.prefetchSink += world.Prefetch(list)
	for _, e := range list {
		if b, ok := e.Baseline.(*baseline); ok {
			v.prefetchSink += int64(b.number) + b.epoch
		}
	}
	for _, e := range list {
		b, ok := e.Baseline.(*baseline)
		if !ok {
			continue
		}
		for i := 0; i < len(b.values); i += 8 {
			v.prefetchSink += b.values[i]
		}
		if entry := b.privateEntries; entry != nil {
			v.prefetchSink += int64(entry.slot)
		}
	}
	for _, e := range list {
		if b, ok := e.Baseline.(*baseline); ok && b.privateEntries != nil {
			v.prefetchSink += int64(b.privateEntries.viewer.number)
		}
	}
}

// PrefetchClients reads what FrameParts is about to read of the next n clients.
func (v *View) PrefetchClients(n int) {
	from := v.lastViewer
	if from > 0 {
		from++ // that one was just dealt with
	}
	list := v.viewers[min(from, len(v.viewers)):min(from+n, len(v.viewers))]
	for _, u := range list {
		v.prefetchSink += int64(u.number) + int64(u.digest)
	}
	for _, u := range list {
		if n := len(u.subscriptions); n > 0 {
			v.prefetchSink += int64(u.subscriptions[0].handle) + int64(u.subscriptions[n-1].handle)
		}
		if u.changedEntries != nil {
			v.prefetchSink += int64(u.changedEntries.mask) + int64(u.private.Prefetch())
		}
	}
	for _, u := range list {
		if u.changedEntries != nil {
			v.prefetchSink += int64(u.private.PrefetchMore()) + u.changedEntries.baseline.epoch
		}
	}
}
