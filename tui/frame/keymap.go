package frame

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"lumtra/core/job"
	"lumtra/tui/kit"
)

// everywhere is what the keys of all views are called among preferences.
const everywhere = "everywhere"

// framePresses are the keys that the frame itself answers.
var framePresses = []string{"1", "2", "3", "4", "5", "6", "7", ">", "<", "u", "?", "B", "q", "ctrl+p", "ctrl+y",
	"ctrl+k",
	"ctrl+l"}

// fixed are keys that cannot be given another meaning: without them nobody finds out again.
var fixed = []string{"up", "down", "left", "right", "enter", "esc", "tab", "pgup", "pgdown", "home", "end", "ctrl+c",
	"ctrl+z", "1", "2", "3", "4", "5", "6", "7"}

// pressable are names that keys have: what was given to another would be out of reach.
var pressable = regexp.MustCompile(`^(ctrl\+[a-z]|alt\+\S|f([1-9]|1[0-2])|space|insert|delete|backspace|\S)$`)

// keymap gives keys the meaning of others, as a person likes it: by view, and everywhere.
type keymap struct {
	means map[string]map[string]string // pressed, to what that key means
	moved map[string]map[string]string // and back
}

// newKeymap reads the keys among preferences. What contradicts itself or what is there is told
// and left out.
func newKeymap(p *job.Preferences) (keymap, error) {
	k := keymap{means: map[string]map[string]string{}, moved: map[string]map[string]string{}}
	known := map[string][]string{everywhere: framePresses}
	for _, v := range views {
		known[strings.ToLower(string(v.View))] = v.Presses
	}
	for _, view := range slices.Sorted(maps.Keys(p.Keys)) {
		presses, ok := known[view]
		if !ok {
			return k, fmt.Errorf("[keys.%s]: there is no such view; there are %s", view,
				strings.Join(slices.Sorted(maps.Keys(known)), ", "))
		}
		table := p.Keys[view]
		taken := append(slices.Clone(presses), framePresses...)
		if view == everywhere {
			for _, v := range views {
				taken = append(taken, v.Presses...)
			}
		}
		means, moved := map[string]string{}, map[string]string{}
		for press, meant := range table {
			means[press], moved[meant] = meant, press
		}
		for _, press := range slices.Sorted(maps.Keys(table)) {
			meant := table[press]
			_, freed := moved[press]
			switch {
			case slices.Contains(fixed, press):
				return k, fmt.Errorf("[keys.%s]: %q cannot be given another meaning", view, press)
			case !pressable.MatchString(press):
				return k, fmt.Errorf("[keys.%s]: no key is called %q; keys are called A, ctrl+a, alt+a, f5", view,
					press)
			case slices.Contains(fixed, meant):
				return k, fmt.Errorf("[keys.%s]: what %q does cannot be moved elsewhere", view, meant)
			case !slices.Contains(presses, meant):
				return k, fmt.Errorf("[keys.%s]: nothing there is on %q", view, meant)
			case slices.Contains(taken, press) && !freed:
				return k, fmt.Errorf("[keys.%s]: %q does something already; give that another key, too", view, press)
			}
		}
		k.means[view], k.moved[view] = means, moved
	}
	return k, nil
}

// of is what a key means in a view. With a key whose meaning was moved elsewhere, to is the key
// that has it now.
func (k *keymap) of(view kit.View, key string) (meant, to string) {
	for _, name := range []string{strings.ToLower(string(view)), everywhere} {
		if meant, ok := k.means[name][key]; ok {
			return meant, ""
		}
		if to, ok := k.moved[name][key]; ok {
			return "", to
		}
	}
	return key, ""
}

// shown are keys as they have to be pressed.
func (k *keymap) shown(view kit.View, keys []kit.Key) []kit.Key {
	keys = slices.Clone(keys)
	for i := range keys {
		for _, name := range []string{strings.ToLower(string(view)), everywhere} {
			if press, ok := k.moved[name][keys[i].Press]; ok {
				keys[i].Press = press
				break
			}
		}
	}
	return keys
}
