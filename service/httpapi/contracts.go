package httpapi

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/go-chi/chi/v5"

	"kamerad.example/api"
	"kamerad.example/core/codegen"
	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/findings"
	"kamerad.example/core/report"
	"kamerad.example/core/syntax"
	"kamerad.example/service/problems"
	"kamerad.example/store"
)

// publish checks a contract and stores it as the next version of its name.
//
// Nothing is stored of a contract with a mistake, of its own or by the service's policy. The same text under the same
// name is not stored again: the answer is then the version that there is, with Fresh false.
func (a *API) publish(r *http.Request, in api.PublishContract) (api.ContractVersion, error) {
	if in.File == "" {
		in.File = "contract.kam"
	}
	files := contract.Files(in.Files)
	if err := files.Check(); err != nil {
		return api.ContractVersion{}, problems.BadRequest("publish a contract: " + err.Error())
	}
	leave, err := a.publishing.take(r.Context())
	if err != nil {
		return api.ContractVersion{}, err
	}
	defer leave()
	c, mistakes := compile.LoadWith(in.File, in.Source, files.Open)
	isRefused := c == nil
	if c != nil {
		mistakes, isRefused = a.policy.Apply(c, mistakes)
	}
	if isRefused {
		return api.ContractVersion{}, &problems.Refusal{
			Status:   http.StatusUnprocessableEntity,
			Detail:   fmt.Sprintf("%s has %s; nothing was published", in.File, count(mistakes.Mistakes(), "mistake")),
			Mistakes: mistakes,
		}
	}
	if _, err := codegen.Generate(c); err != nil {
		return api.ContractVersion{}, &problems.Refusal{Status: http.StatusUnprocessableEntity, Detail: err.Error()}
	}
	outline := c.Outline()
	made := report.New(c, mistakes)
	out, fresh, err := a.records.Publish(r.Context(), store.Version{
		Contract:    c.Name,
		Source:      in.Source,
		Files:       in.Files,
		Fingerprint: made.Fingerprint,
		Outline:     api.Encode(outline),
		Report:      api.Encode(made),
	})
	if err != nil {
		return api.ContractVersion{}, err
	}
	if fresh {
		a.note(r, 0, fmt.Sprintf("published %s version %d", out.Contract, out.Version))
	}
	answer := versionOf(out)
	answer.Source = ""
	answer.Outline = nil
	answer.Fresh = fresh
	answer.Findings = mistakes
	return answer, nil
}

// count returns a number with what it counts, in the plural unless it is one.
func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// versionOf returns a stored version as the API gives it, without its source.
func versionOf(v store.Version) api.ContractVersion {
	return api.ContractVersion{
		Contract:    v.Contract,
		Version:     v.Version,
		Fingerprint: v.Fingerprint,
		PublishedAt: v.PublishedAt,
		Source:      v.Source,
		Files:       v.Files,
	}
}

// contracts lists the newest version of every contract.
func (a *API) contracts(r *http.Request) ([]api.ContractVersion, error) {
	return a.listVersions(r, "")
}

// versions lists the versions of one contract, newest first.
func (a *API) versions(r *http.Request) ([]api.ContractVersion, error) {
	name := chi.URLParam(r, "name")
	out, err := a.listVersions(r, name)
	if err == nil && len(out) == 0 {
		return nil, a.noContract(r, name, 0)
	}
	return out, err
}

// listVersions lists stored versions; with an empty name the newest one of every contract.
//
// A name that PostgreSQL could not hold is the name of no contract.
func (a *API) listVersions(r *http.Request, name string) ([]api.ContractVersion, error) {
	if !utf8.ValidString(name) || strings.ContainsRune(name, 0) {
		return nil, nil
	}
	list, err := a.records.Versions(r.Context(), name)
	out := []api.ContractVersion{}
	for _, x := range list {
		out = append(out, versionOf(x))
	}
	return out, err
}

// version returns one version with its source.
//
// The findings are those of today's checker, which may have learned since the version was published;
// the stored report has those of that day.
func (a *API) version(r *http.Request) (api.ContractVersion, error) {
	n, err := numbered(chi.URLParam(r, "version"))
	if err != nil {
		return api.ContractVersion{}, err
	}
	x, err := a.find(r, chi.URLParam(r, "name"), n)
	if err != nil {
		return api.ContractVersion{}, err
	}
	out := versionOf(x)
	if c, warnings := load(x); c != nil {
		out.Outline = c.FullOutline()
		out.Findings = warnings
		out.Settings = settingsOf(c)
	}
	return out, nil
}

// settingsOf returns the settings of a contract.
func settingsOf(c *contract.Contract) (out []api.ContractSetting) {
	text := func(n int64) string { return c.Texts[n] }
	for _, s := range c.Settings {
		out = append(out, api.ContractSetting{
			Name:    s.Name,
			Type:    s.Type,
			Default: s.Type.AppendJSON(nil, s.Type.FromSlots(s.Default, text)),
			Public:  s.Public,
		})
	}
	return out
}

// findings returns what dangers the checker tells of, each explained.
func (a *API) findings(*http.Request) ([]findings.Finding, error) { return findings.Findings(), nil }

// load reads a stored version; it is nil when this service can read it no more.
func load(x store.Version) (*contract.Contract, syntax.Problems) {
	return compile.LoadWith(x.Contract+".kam", x.Source, contract.Files(x.Files).Open)
}

// numbered reads a version's number from a call; empty is the newest.
func numbered(text string) (int, error) {
	if text == "" {
		return 0, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 0 || n > 1<<30 {
		return 0, problems.BadRequest("a version is a whole number; 0 is the newest")
	}
	return n, nil
}

// report returns what the checker found in a version: as it was stored, or made now for a version without it.
func (a *API) report(r *http.Request) (json.RawMessage, error) {
	n, err := numbered(chi.URLParam(r, "version"))
	if err != nil {
		return nil, err
	}
	x, err := a.find(r, chi.URLParam(r, "name"), n)
	if err != nil || x.Report != nil {
		return x.Report, err
	}
	c, warnings := load(x)
	if c == nil {
		return nil, &problems.Refusal{
			Status:   http.StatusUnprocessableEntity,
			Detail:   "this version cannot be read any more",
			Mistakes: warnings,
		}
	}
	return api.Encode(report.New(c, warnings)), nil
}

// compare returns what differs between two versions of a contract.
//
// Both versions are read anew by today's checker.
func (a *API) compare(r *http.Request) (*report.Comparison, error) {
	var both [2]*contract.Contract
	for i, which := range []string{"from", "to"} {
		n, err := numbered(r.URL.Query().Get(which))
		if err != nil {
			return nil, err
		}
		x, err := a.find(r, chi.URLParam(r, "name"), n)
		if err != nil {
			return nil, err
		}
		var mistakes syntax.Problems
		both[i], mistakes = load(x)
		if both[i] == nil {
			return nil, &problems.Refusal{
				Status:   http.StatusUnprocessableEntity,
				Detail:   fmt.Sprintf("version %d cannot be read any more", x.Version),
				Mistakes: mistakes,
			}
		}
	}
	return report.Compare(both[0], both[1]), nil
}

// find reads a stored version; one that does not exist is a 404 that says which do.
func (a *API) find(r *http.Request, name string, version int) (store.Version, error) {
	if !utf8.ValidString(name) || strings.ContainsRune(name, 0) {
		return store.Version{}, a.noContract(r, "", 0)
	}
	x, err := a.records.Version(r.Context(), name, version)
	if errors.Is(err, store.ErrNotFound) {
		return x, a.noContract(r, name, version)
	}
	return x, err
}

// noContract returns the error for a version that is not stored: it names those that are.
//
// Without a version of that name, it names the contracts that there are, at most twenty.
func (a *API) noContract(r *http.Request, name string, version int) error {
	no := &problems.Refusal{Status: http.StatusNotFound, Detail: fmt.Sprintf("there is no contract %.80q", name)}
	if list, err := a.records.Versions(r.Context(), name); err == nil && len(list) > 0 && name != "" {
		no.Detail = fmt.Sprintf("the contract %s has no version %d", name, version)
		for _, x := range list[:min(len(list), 20)] {
			no.Known = append(no.Known, fmt.Sprintf("version %d", x.Version))
		}
		return no
	}
	list, err := a.records.Versions(r.Context(), "")
	if err != nil {
		return err
	}
	for _, x := range list[:min(len(list), 20)] {
		no.Known = append(no.Known, x.Contract)
	}
	if len(list) == 0 {
		no.Detail += "; none is published yet"
	}
	return no
}
