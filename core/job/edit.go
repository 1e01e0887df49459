package job

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"lumtra/core/atomicfile"
	"lumtra/core/place/kind"
	"lumtra/core/place/kinds"

	"github.com/pelletier/go-toml/v2"
)

// SaveEndpoint writes an endpoint into the workspace's endpoints.toml: a new
// one at the end, a known one in its place. Nothing else in the file changes,
// comments included. was is the name it had before, "" for a new one. A file
// that would not be read again is not written.
func SaveEndpoint(workspace, was string, e *kind.Settings) error {
	if !names.MatchString(e.Name) {
		return fmt.Errorf("%q: %s", e.Name, nameRule)
	}
	if setting, what := kinds.Check(e); what != "" {
		return fmt.Errorf("%s: %s", setting, what)
	}
	body, err := toml.Marshal(e)
	if err != nil {
		return err
	}
	return editEndpoints(workspace, func(text string) (string, error) {
		if e.Name != was && tableAt(text, e.Name) != nil {
			return "", fmt.Errorf("there is an endpoint %q already", e.Name)
		}
		block := "[endpoint." + e.Name + "]\n" + string(body)
		if was != "" {
			at := tableAt(text, was)
			if at == nil {
				return "", fmt.Errorf("endpoints.toml has no table [endpoint.%s]; change it there by hand", was)
			}
			return text[:at[0]] + block + "\n" + strings.TrimLeft(text[at[1]:], "\n"), nil
		}
		if text = strings.TrimRight(text, "\n"); text != "" {
			text += "\n\n"
		}
		return text + block, nil
	})
}

// RemoveEndpoint takes an endpoint out of endpoints.toml.
func RemoveEndpoint(workspace, name string) error {
	return editEndpoints(workspace, func(text string) (string, error) {
		at := tableAt(text, name)
		if at == nil {
			return "", fmt.Errorf("endpoints.toml has no table [endpoint.%s]", name)
		}
		return strings.TrimRight(text[:at[0]]+strings.TrimLeft(text[at[1]:], "\n"), "\n") + "\n", nil
	})
}

// tableAt finds an endpoint's table: from its header to behind its last
// setting. Comments that follow belong to what comes next.
func tableAt(text, name string) []int {
	quoted := regexp.QuoteMeta(name)
	header := regexp.MustCompile(`(?m)^[ \t]*\[[ \t]*endpoint[ \t]*\.[ \t]*(?:` + quoted + `|"` + quoted +
		`")[ \t]*\][^\n]*\n?`)
	at := header.FindStringIndex(text)
	if at == nil {
		return nil
	}
	end, from := at[1], at[1]
	for from < len(text) {
		line, _, _ := strings.Cut(text[from:], "\n")
		trimmed := strings.TrimSpace(line)
		if strings.HasPrefix(trimmed, "[") {
			break
		}
		from = min(from+len(line)+1, len(text))
		if trimmed != "" && !strings.HasPrefix(trimmed, "#") {
			end = from
		}
	}
	return []int{at[0], end}
}

func editEndpoints(workspace string, edit func(string) (string, error)) error {
	path := filepath.Join(workspace, endpointsFile)
	old, err := readText(path)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return &Mistake{File: path, What: "cannot be read: " + reason(err)}
	}
	text, err := edit(string(old))
	if err != nil {
		return err
	}
	d := &document{file: path, raw: []byte(text)}
	file := &EndpointsFile{}
	if err := d.decode(file); err != nil {
		return err
	}
	if err := file.check(d); err != nil {
		return err
	}
	if bytes.Equal(old, d.raw) {
		return nil
	}
	if err := atomicfile.Write(path, d.raw, 0o644); err != nil {
		return &Mistake{File: path, What: "cannot be written: " + reason(err)}
	}
	return nil
}
