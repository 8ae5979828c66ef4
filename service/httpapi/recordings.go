package httpapi

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"net/http"
	"strconv"
	"time"

	"kamerad.example/api"
	"kamerad.example/core/record"
	"kamerad.example/service/past"
	"kamerad.example/service/problems"
	"kamerad.example/store"
)

// Recordings are the recordings of sessions, and what players keep.
type Recordings interface {
	past.Names
	RecordingsOf(ctx context.Context, session int64, limit int) ([]store.RecordingSize, error)
	KeptBy(ctx context.Context, name string, isWorld bool, limit int) ([]store.Kept, error)
	SetKept(ctx context.Context, k store.Keeper, values map[string]json.RawMessage) error
	DeleteKept(ctx context.Context, k store.Keeper) (deleted int64, err error)
}

const maxListed = 500 // recordings, or players

// describeRecording returns a recording as the API tells it.
func describeRecording(x store.RecordingSize) api.Recording {
	return api.Recording{
		Session:     x.ID,
		Contract:    x.Contract,
		Version:     x.Version,
		OpenedAt:    x.OpenedAt,
		ClosedAt:    x.ClosedAt,
		Engine:      x.Engine,
		Wire:        x.Wire,
		LastTick:    x.LastTick,
		Batches:     x.Batches,
		Bytes:       x.Bytes,
		Checkpoints: x.Checkpoints,
		Gaps:        x.Gaps,
	}
}

// listRecordings lists recordings, newest first.
func (a *API) listRecordings(r *http.Request) ([]api.Recording, error) {
	list, err := a.recordings.RecordingsOf(r.Context(), 0, maxListed)
	out := make([]api.Recording, 0, len(list))
	for _, x := range list {
		out = append(out, describeRecording(x))
	}
	return out, err
}

// recording returns one recording.
func (a *API) recording(r *http.Request) (api.Recording, error) {
	id, err := a.sessionID(r)
	if err != nil {
		return api.Recording{}, err
	}
	list, err := a.recordings.RecordingsOf(r.Context(), id, 1)
	if err == nil && len(list) == 0 {
		err = a.noSession(fmt.Sprint(id))
	}
	if err != nil {
		return api.Recording{}, err
	}
	return describeRecording(list[0]), nil
}

// deleteRecording deletes the recording of a session that has closed.
func (a *API) deleteRecording(r *http.Request) (api.Recording, error) {
	out, err := a.recording(r)
	if err != nil {
		return out, err
	}
	if out.ClosedAt == nil {
		return out, &problems.Refusal{
			Status: http.StatusConflict,
			Detail: fmt.Sprintf(
				"delete the recording of session %d: the session is open, and goes on from it after a crash; "+
					"close it first",
				out.Session,
			),
		}
	}
	a.note(r, out.Session, "deleted its recording")
	return out, a.recordings.DeleteRecording(r.Context(), out.Session)
}

// replay plays a recording again.
func (a *API) replay(r *http.Request, in api.Replay) (api.Replayed, error) {
	id, err := a.flushed(r)
	if err != nil {
		return api.Replayed{}, err
	}
	out, err := a.past.Replay(r.Context(), id, in.To)
	return out, a.pastError(id, err)
}

// pastState returns what the server or a client held at a tick.
func (a *API) pastState(r *http.Request) (api.PastState, error) {
	id, err := a.flushed(r)
	if err != nil {
		return api.PastState{}, err
	}
	at, err := numberQuery(r, "at")
	if err != nil {
		return api.PastState{}, err
	}
	out, err := a.past.State(r.Context(), id, at, r.URL.Query().Get("client"))
	return out, a.pastError(id, err)
}

// exportRecording answers with a recording as lines of JSON, which has all that it takes to play it elsewhere.
func (a *API) exportRecording(w http.ResponseWriter, r *http.Request) {
	id, err := a.flushed(r)
	if err != nil {
		a.refuse(w, r, err)
		return
	}
	to := int64(-1)
	if r.URL.Query().Has("to") {
		to, err = numberQuery(r, "to")
	}
	if err != nil {
		a.refuse(w, r, err)
		return
	}
	row, err := a.recordings.Recorded(r.Context(), id)
	if err == nil {
		asTable := r.URL.Query().Get("form") == "csv"
		w.Header().Set("Content-Type", map[bool]string{false: "application/x-ndjson", true: "text/csv"}[asTable])
		err = a.past.Export(r.Context(), w, row, to, asTable)
	}
	if err != nil {
		w.Header().Del("Content-Type")
		a.refuse(w, r, a.pastError(id, err))
	}
}

// Bounds of an export that is imported.
const (
	maxImport    = 512 << 20 // bytes
	importWithin = 10 * time.Minute
)

// importExport answers a call with an export in its body, which is played as it arrives.
func (a *API) importExport(w http.ResponseWriter, r *http.Request) {
	leave, err := a.bodies.take(r.Context())
	if err != nil {
		a.refuse(w, r, err)
		return
	}
	defer leave()
	_ = http.NewResponseController(w).SetReadDeadline(time.Now().Add(importWithin))
	r.Body = http.MaxBytesReader(w, r.Body, maxImport)
	out, err := a.importRecording(r)
	if err != nil {
		a.refuse(w, r, err)
		return
	}
	a.send(w, r, out)
}

// importRecording stores an export as the recording of a session that has closed.
func (a *API) importRecording(r *http.Request) (out api.Recording, err error) {
	row, err := a.past.Import(r.Context(), r.Body)
	var unpublished *past.UnpublishedError
	var large *http.MaxBytesError
	switch {
	case errors.As(err, &unpublished):
		return out, &problems.Refusal{Status: http.StatusConflict, Detail: err.Error() + "; publish that text first"}
	case errors.Is(err, context.Canceled), errors.As(err, &large):
		return out, err
	case err != nil:
		return out, &problems.Refusal{Status: http.StatusUnprocessableEntity, Detail: err.Error()}
	}
	list, err := a.recordings.RecordingsOf(r.Context(), row.ID, 1)
	if err == nil && len(list) == 0 {
		err = a.noSession(fmt.Sprint(row.ID))
	}
	if err != nil {
		return out, err
	}
	return describeRecording(list[0]), nil
}

// playStretch plays some ticks of a recording for who looks at it.
func (a *API) playStretch(r *http.Request) (out api.PlayedDrill, err error) {
	id, err := a.flushed(r)
	if err != nil {
		return out, err
	}
	from, err := numberQuery(r, "from")
	if err != nil {
		return out, err
	}
	to, err := numberQuery(r, "to")
	if err != nil {
		return out, err
	}
	out, err = a.past.Play(r.Context(), id, from, to)
	return out, a.pastError(id, err)
}

// compareRecordings plays a recording beside another one, or under another version of its contract.
func (a *API) compareRecordings(r *http.Request) (*record.Comparison, error) {
	id, err := a.flushed(r)
	if err != nil {
		return nil, err
	}
	with, err := numberQuery(r, "with")
	if err != nil {
		return nil, err
	}
	version, err := numberQuery(r, "version")
	if err != nil {
		return nil, err
	}
	if with == 0 && version == 0 || version > math.MaxInt32 {
		return nil, problems.BadRequest("compare: say with which session, ?with=ID, or which version, ?version=N")
	}
	if with != 0 {
		if err := a.flush(r.Context(), with); err != nil {
			return nil, err
		}
	}
	out, err := a.past.Compare(r.Context(), id, with, int(version))
	return out, a.pastError(cmp.Or(with, id), err)
}

// drillOfStretch writes a drill of some ticks of a recording.
func (a *API) drillOfStretch(r *http.Request) (out api.WrittenDrill, err error) {
	id, err := a.flushed(r)
	if err != nil {
		return out, err
	}
	from, err := numberQuery(r, "from")
	if err != nil {
		return out, err
	}
	to, err := numberQuery(r, "to")
	if err != nil {
		return out, err
	}
	if to != 0 && to <= from {
		return out, problems.BadRequest(fmt.Sprintf("a drill from tick %d cannot end with tick %d", from, to))
	}
	recorded, err := a.recording(r)
	if err != nil {
		return out, err
	}
	query := r.URL.Query()
	files := past.DrillFiles{
		Name:      cmp.Or(query.Get("name"), fmt.Sprintf("as in session %d from tick %d", id, from)),
		Contract:  cmp.Or(query.Get("file"), recorded.Contract+".kam"),
		Recording: cmp.Or(query.Get("recording"), fmt.Sprintf("session%d.ndjson", id)),
	}
	if err := checkDrillFiles(files.Name, files.Contract, files.Recording); err != nil {
		return out, err
	}
	out, err = a.past.Drill(r.Context(), id, from, to, files)
	return out, a.pastError(id, err)
}

// why says why a property had its value.
func (a *API) why(r *http.Request) (*record.Reason, error) {
	id, err := a.flushed(r)
	if err != nil {
		return nil, err
	}
	at, err := numberQuery(r, "at")
	if err != nil {
		return nil, err
	}
	of := r.URL.Query().Get("of")
	if of == "" {
		return nil, problems.BadRequest("why: name the property with ?of=ENTITY.PROPERTY, such as Ana.Diver.hull")
	}
	out, err := a.past.Why(r.Context(), id, of, at)
	return out, a.pastError(id, err)
}

// flushed returns the session that the path names, once what it was given until now is stored.
func (a *API) flushed(r *http.Request) (int64, error) {
	id, err := a.sessionID(r)
	if err != nil {
		return 0, err
	}
	return id, a.flush(r.Context(), id)
}

// flush has what a session was given until now stored, as far as that takes no more than a second.
func (a *API) flush(ctx context.Context, id int64) error {
	x := a.registry.Find(id)
	if x == nil {
		return nil
	}
	var stored func(context.Context) error
	if err := x.Runner().Do(ctx, func() { stored = x.Runner().StartFlush() }); err != nil || stored == nil {
		return ctx.Err() // it has closed, or is stored as it is
	}
	ctx, cancel := context.WithTimeout(ctx, time.Second)
	defer cancel()
	_ = stored(ctx) // what is not stored is not answered for
	return nil
}

// pastError says for a caller why a recording has no answer.
func (a *API) pastError(id int64, err error) error {
	var unknown *past.UnknownError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &unknown):
		return &problems.Refusal{Status: http.StatusNotFound, Detail: unknown.Detail}
	case errors.Is(err, store.ErrNotFound):
		return a.noSession(fmt.Sprint(id))
	case errors.Is(err, context.Canceled):
		return err
	}
	return &problems.Refusal{Status: http.StatusUnprocessableEntity, Detail: err.Error()}
}

// numberQuery returns a number of the address, 0 when it is not given.
func numberQuery(r *http.Request, name string) (int64, error) {
	text := r.URL.Query().Get(name)
	if text == "" {
		return 0, nil
	}
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 0 {
		return 0, problems.BadRequest(fmt.Sprintf("%s is a number from 0, not %.40q", name, text))
	}
	return n, nil
}
