package workspace

import (
	"fmt"
	"strings"

	"lumtra/core/object"
)

// CommandLine is a command of Lumtra in this workspace, as it was named when it was opened,
// in a form that a shell takes as it is.
func (s *Keeper) CommandLine(words ...string) string { return CommandLine(s.opts.Named, words...) }

// CommandLine is a command of Lumtra with the flags that say which workspace it is about.
func CommandLine(flags []string, words ...string) string {
	all := append(append([]string{"lumtra"}, words...), flags...)
	for i, w := range all {
		all[i] = quote(w)
	}
	return strings.Join(all, " ")
}

// plain are the characters that mean nothing to a shell.
const plain = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_-./:=@%+,"

// quote is a word as shells read it back.
func quote(word string) string {
	if word != "" && strings.Trim(word, plain) == "" {
		return word
	}
	if object.Display(word) == word {
		return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
	}
	text := "$'" // what shells share for names that are not safe to show
	for _, b := range []byte(word) {
		switch {
		case b == '\'' || b == '\\':
			text += `\` + string(b)
		case b < ' ' || b > '~':
			text += fmt.Sprintf(`\x%02x`, b)
		default:
			text += string(b)
		}
	}
	return text + "'"
}
