package job

import (
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2/unstable"
)

// renamed is a TOML text in which settings with an old name have their new one; all else stays
// as it is, line by line. Old names are full paths such as "guards.removals"; of new ones only
// the last part is written, since tables are renamed where they stand.
func renamed(text string, old map[string]string) string {
	type change struct {
		at, end int
		name    string
	}
	var changes []change
	p := unstable.Parser{}
	p.Reset([]byte(text))
	var visit func(n *unstable.Node, path []string) []string
	visit = func(n *unstable.Node, path []string) []string {
		for it := n.Key(); it.Next(); {
			key := it.Node().Data
			path = append(slices.Clip(path), string(key))
			if name, ok := old[strings.Join(path, ".")]; ok {
				at := int(p.Range(key).Offset)
				changes = append(changes, change{at, at + len(key), name[strings.LastIndexByte(name, '.')+1:]})
			}
		}
		if n.Kind == unstable.KeyValue && n.Value().Kind == unstable.InlineTable {
			for it := n.Value().Children(); it.Next(); {
				visit(it.Node(), path)
			}
		}
		return path
	}
	var table []string
	for p.NextExpression() {
		switch e := p.Expression(); e.Kind {
		case unstable.Table, unstable.ArrayTable:
			table = visit(e, nil)
		case unstable.KeyValue:
			visit(e, table)
		}
	}
	if p.Error() != nil { // told with its place when it is decoded
		return text
	}
	for _, c := range slices.Backward(changes) {
		text = text[:c.at] + c.name + text[c.end:]
	}
	return text
}
