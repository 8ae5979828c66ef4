package api

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/url"
)

// Recordings lists recordings, newest first.
func (c Client) Recordings(ctx context.Context) (out []Recording, err error) {
	err = c.call(ctx, "GET", "/api/recordings", nil, &out)
	return out, err
}

// Recording returns the recording of a session.
func (c Client) Recording(ctx context.Context, session int64) (out Recording, err error) {
	err = c.call(ctx, "GET", fmt.Sprintf("/api/recordings/%d", session), nil, &out)
	return out, err
}

// DeleteRecording deletes the recording of a session that has closed.
func (c Client) DeleteRecording(ctx context.Context, session int64) (out Recording, err error) {
	err = c.call(ctx, "DELETE", fmt.Sprintf("/api/recordings/%d", session), nil, &out)
	return out, err
}

// Replay plays a session again, from its beginning up to a tick, 0 for its end, and holds every frame against the
// recording.
func (c Client) Replay(ctx context.Context, session, to int64) (out Replayed, err error) {
	err = c.call(ctx, "POST", fmt.Sprintf("/api/recordings/%d/replay", session), Replay{To: to}, &out)
	return out, err
}

// Compare plays a session again beside another one, or, when that is 0, under another version of its contract, and
// reads the first tick in which they differ into out, a *record.Comparison.
func (c Client) Compare(ctx context.Context, session, with int64, version int, out any) error {
	path := fmt.Sprintf("/api/recordings/%d/compare?with=%d&version=%d", session, with, version)
	return c.call(ctx, "GET", path, nil, out)
}

// Form is how an export stands in its file.
type Form string

// The forms of an export.
const (
	FormLines Form = "ndjson" // lines of JSON
	FormTable Form = "csv"
)

// Import stores an export, of either form, as the recording of a session that has closed, once the service has played
// it to its end.
func (c Client) Import(ctx context.Context, r io.Reader) (out Recording, err error) {
	answer, err := c.send(ctx, "POST", "/api/recordings", r)
	if err != nil {
		return out, err
	}
	defer answer.Body.Close()
	return out, json.NewDecoder(answer.Body).Decode(&out)
}

// Export writes the recording of a session as lines of JSON up to a tick, less than 0 for its end, with the session's
// key: all that it takes to play it elsewhere.
func (c Client) Export(ctx context.Context, session, to int64, form Form, w io.Writer) error {
	path := fmt.Sprintf("/api/recordings/%d/export?form=%s", session, form)
	if to >= 0 {
		path += fmt.Sprintf("&to=%d", to)
	}
	answer, err := c.send(ctx, "GET", path, nil)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	_, err = io.Copy(w, answer.Body)
	return err
}

// PastState returns what the server, or a client by its name or number, held at a tick, 0 for the last one.
func (c Client) PastState(ctx context.Context, session, at int64, client string) (out PastState, err error) {
	path := fmt.Sprintf("/api/recordings/%d/state?at=%d&client=%s", session, at, url.QueryEscape(client))
	err = c.call(ctx, "GET", path, nil, &out)
	return out, err
}

// Why says why a property, such as Ana.Diver.hull, had its value at a tick, 0 for the last one. out is what the answer
// is read into.
func (c Client) Why(ctx context.Context, session int64, of string, at int64, out any) error {
	query := url.Values{"of": {of}, "at": {fmt.Sprint(at)}}
	return c.call(ctx, "GET", fmt.Sprintf("/api/recordings/%d/why?%s", session, query.Encode()), nil, out)
}

// Keepers are who keeps something from session to session.
type Keepers string

// Who can keep something.
const (
	Players Keepers = "players"
	Worlds  Keepers = "worlds" // that sessions are opened in
)

// path returns where the API has what one of the keepers keeps.
func (k Keepers) path(name string) string { return "/api/" + string(k) + "/" + url.PathEscape(name) }

// Kept lists what players or worlds keep, what changed last first.
func (c Client) Kept(ctx context.Context, who Keepers) (out []Kept, err error) {
	err = c.call(ctx, "GET", "/api/"+string(who), nil, &out)
	return out, err
}

// KeptBy returns what one of them keeps, of each contract.
func (c Client) KeptBy(ctx context.Context, who Keepers, name string) (out []Kept, err error) {
	err = c.call(ctx, "GET", who.path(name), nil, &out)
	return out, err
}

// SetKept gives one of them other values of what it keeps of a contract. No session may have them.
func (c Client) SetKept(
	ctx context.Context, who Keepers, name, contract string, values map[string]json.RawMessage,
) (out []Kept, err error) {
	err = c.call(ctx, "PUT", who.path(name), SetKept{Contract: contract, Values: values}, &out)
	return out, err
}

// DeleteKept forgets what one of them keeps of a contract, or of all with an empty name, and makes the recordings of a
// player nameless. No session may have what is kept.
func (c Client) DeleteKept(ctx context.Context, who Keepers, name, contract string) (out Forgotten, err error) {
	err = c.call(ctx, "DELETE", who.path(name)+"?"+url.Values{"contract": {contract}}.Encode(), nil, &out)
	return out, err
}
