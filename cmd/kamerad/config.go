package main

import (
	"errors"
	"fmt"
	"maps"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"
	"github.com/urfave/cli/v3"
)

// configFile is a file of settings (TOML). A setting has the name of its flag; a flag and a variable of the environment
// come before it.
type configFile struct {
	path   string // that --config names; empty for none
	read   bool   // it was tried to
	values map[string]any
	known  []string // the names of all settings
	err    error
}

// maxConfig is how many bytes a file of settings has at most.
const maxConfig = 1 << 20

// load reads the file, once it is known which one.
func (f *configFile) load() {
	if f.read || f.path == "" {
		return
	}
	f.read = true
	info, err := os.Stat(f.path)
	if err == nil && info.Size() > maxConfig {
		err = fmt.Errorf("it is longer than %d bytes", maxConfig)
	}
	var raw []byte
	if err == nil {
		raw, err = os.ReadFile(f.path)
	}
	if err == nil {
		err = toml.Unmarshal(raw, &f.values)
	}
	var where *toml.DecodeError
	if errors.As(err, &where) {
		line, column := where.Position()
		err = fmt.Errorf("line %d, column %d: %w", line, column, err)
	}
	if err != nil {
		f.err = fmt.Errorf("read the settings in %s: %w", f.path, err)
	}
}

// check returns what is wrong with the file: settings that there are not, or that are no values.
func (f *configFile) check() error {
	f.load()
	if f.err != nil {
		return f.err
	}
	for _, name := range slices.Sorted(maps.Keys(f.values)) {
		if !slices.Contains(f.known, name) {
			return fmt.Errorf(
				"read the settings in %s: there is no setting %.40q, only %s",
				f.path,
				name,
				strings.Join(f.known, ", "),
			)
		}
		if _, err := settingText(f.values[name]); err != nil {
			return fmt.Errorf("read the settings in %s: `%s` %w", f.path, name, err)
		}
	}
	return nil
}

// settingText returns a value of a file as a flag would have it.
func settingText(v any) (string, error) {
	switch v := v.(type) {
	case string, bool, int64, float64:
		return fmt.Sprint(v), nil
	case []any:
		var parts []string
		for _, x := range v {
			text, is := x.(string)
			if !is || strings.Contains(text, ",") {
				return "", errors.New("is a list of texts without commas")
			}
			parts = append(parts, text)
		}
		return strings.Join(parts, ","), nil
	}
	return "", errors.New("is a text, a number, true or false, or a list of texts")
}

// fileSource is a setting in a file, as a source of a flag's value.
type fileSource struct {
	file *configFile
	name string
}

// Lookup implements cli.ValueSource.
func (s fileSource) Lookup() (string, bool) {
	s.file.load()
	v, known := s.file.values[s.name]
	if !known {
		return "", false
	}
	text, err := settingText(v)
	return text, err == nil
}

func (s fileSource) String() string   { return fmt.Sprintf("`%s` in %s", s.name, s.file.path) }
func (s fileSource) GoString() string { return fmt.Sprintf("&fileSource{%q}", s.name) }

// variableOf returns the variable of the environment that has a setting.
func variableOf(name string) string {
	return "KAMERAD_" + strings.ToUpper(strings.ReplaceAll(name, "-", "_"))
}

// sources are where a setting's value comes from that no flag gives.
func (f *configFile) sources(name string) cli.ValueSourceChain {
	f.known = append(f.known, name)
	return cli.NewValueSourceChain(cli.EnvVar(variableOf(name)), fileSource{f, name})
}

// printConfig prints all settings as a file has them, each with where its value comes from, and with no secret.
func printConfig(c *cli.Command, f *configFile) error {
	out := c.Root().Writer
	for _, name := range f.known {
		value := c.Value(name)
		text, err := toml.Marshal(map[string]any{name: shownSetting(name, value)})
		if err != nil {
			return fmt.Errorf("print the setting %s: %w", name, err)
		}
		fmt.Fprintf(out, "%-60s # %s\n", strings.TrimSpace(string(text)), f.sourceOf(c, name))
	}
	return nil
}

// shownSetting returns a setting's value as it may be shown.
func shownSetting(name string, value any) any {
	switch v := value.(type) {
	case time.Duration:
		return v.String()
	case string:
		if name == "database" {
			return withoutSecrets(v)
		}
	}
	return value
}

// withoutSecrets returns the address of a database without what only those may know who use it.
func withoutSecrets(address string) string {
	u, err := url.Parse(address)
	if err != nil || u.Scheme == "" {
		return "(hidden)"
	}
	if u.User != nil {
		u.User = url.UserPassword(u.User.Username(), "hidden")
	}
	q := u.Query()
	for _, name := range []string{"password", "sslpassword"} {
		if q.Has(name) {
			q.Set(name, "hidden")
		}
	}
	u.RawQuery = q.Encode()
	return u.String()
}

// sourceOf says where the value of a setting comes from.
func (f *configFile) sourceOf(c *cli.Command, name string) string {
	if !c.IsSet(name) {
		return "default"
	}
	for _, arg := range os.Args {
		word := strings.TrimLeft(arg, "-")
		if word != arg && (word == name || strings.HasPrefix(word, name+"=")) {
			return "flag"
		}
	}
	if _, is := os.LookupEnv(variableOf(name)); is {
		return variableOf(name)
	}
	return f.path
}
