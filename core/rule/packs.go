package rule

import (
	"fmt"

	"github.com/dustin/go-humanize"
)

// Packs say how objects are divided where the target is the inside of several packs.
type Packs struct {
	// By is what shares a pack: what comes one after the other, or what lies in one folder.
	By PackBy `toml:"by,omitempty"`
	// AtMost is a size such as "50GB": a pack that has reached it takes nothing new. "" is
	// [DefaultPack].
	AtMost string `toml:"at-most,omitempty"`
	// Under is a size such as "1MB": what is not smaller stays an object of its own. "" packs all.
	Under string `toml:"under,omitempty"`
	// Level is how hard one pack or several are compressed: zstd 1 to 22, gzip 1 to 9; 0 is the usual.
	Level int `toml:"level,omitempty"`
	// Attributes has extended attributes of files and folders kept.
	Attributes bool `toml:"attributes,omitempty"`
}

// PackBy says what shares a pack.
type PackBy string

// The ways to share packs.
const (
	// InTurn fills one pack after the other.
	InTurn PackBy = ""
	// ByFolder makes a pack of each folder at the top of the target.
	ByFolder PackBy = "folder"
)

// DefaultPack is how large packs become where the job does not say, in bytes.
const DefaultPack = 10_000_000_000

// MostPack is how large packs may be asked to become, in bytes: their parts wait in memory.
const MostPack = 700_000_000_000

// Sizes are AtMost and Under in bytes; under is 0 where all is packed.
func (p Packs) Sizes() (atMost, under int64) {
	atMost = DefaultPack
	if n, err := humanize.ParseBytes(p.AtMost); err == nil {
		atMost = int64(n)
	}
	if n, err := humanize.ParseBytes(p.Under); err == nil {
		under = int64(n)
	}
	return atMost, under
}

func (p Packs) check() (string, string) {
	if p.By != InTurn && p.By != ByFolder {
		return "packs.by", fmt.Sprintf("by is %q; it is \"folder\", or left out", p.By)
	}
	for _, x := range []struct {
		name, text string
		most       uint64
	}{{"at-most", p.AtMost, MostPack}, {"under", p.Under, 1 << 40}} {
		if x.text == "" {
			continue
		}
		if n, err := humanize.ParseBytes(x.text); err != nil || n == 0 || n > x.most {
			return "packs." + x.name, fmt.Sprintf("%s is %q; it is a size such as \"1MB\" or \"50GB\", up to %s",
				x.name,
				x.text, humanize.Bytes(x.most))
		}
	}
	if p.Level < 0 || p.Level > 22 {
		return "packs.level", fmt.Sprintf("level is %d; zstd has 1 to 22, gzip 1 to 9", p.Level)
	}
	if p.By == ByFolder && p.AtMost != "" {
		return "packs.at-most", "each folder has one pack, however large: leave at-most out, or by"
	}
	return "", ""
}
