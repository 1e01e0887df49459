package kit

import (
	"slices"

	tea "charm.land/bubbletea/v2"
)

// Action is something that a key does in a view; of is what the view's keys are about. The
// help, the last line, the finder and the view itself go by one list of actions, so that
// what is shown is what works.
type Action[T any] struct {
	// Press is the key that is shown; Also are others that do the same.
	Press string
	Also  []string
	// Does says what it does, a word or two up to a colon for the last line. "" is for keys
	// that are not shown, as everybody knows them.
	Does string
	// When tells whether there is such a thing to do at all; nil is always.
	When func(of T) bool
	// Off says why it cannot be done just now, "" when it can; nil is always.
	Off func(of T) string
	Do  func(of T, key string) tea.Cmd
	// Anywhere tells that it is not about what the cursor is on.
	Anywhere bool
}

// there are the actions that there are now.
func there[T any](of T, all []Action[T]) []Action[T] {
	return slices.DeleteFunc(slices.Clone(all), func(a Action[T]) bool { return a.When != nil && !a.When(of) })
}

func (a *Action[T]) off(of T) string {
	if a.Off == nil {
		return ""
	}
	return a.Off(of)
}

// Presses are all keys of actions, whether there is something for them to do or not.
func Presses[T any](tables ...[]Action[T]) (all []string) {
	for _, table := range tables {
		for _, a := range table {
			all = append(append(all, a.Press), a.Also...)
		}
	}
	return all
}

// KeysOf are the keys of actions that are shown: those that can be done first, the others
// with the reason why not.
func KeysOf[T any](of T, all []Action[T]) []Key {
	var on, off []Key
	for _, a := range there(of, all) {
		switch why := a.off(of); {
		case a.Does == "":
		case why != "":
			off = append(off, Key{Press: a.Press, Does: a.Does, Off: why})
		default:
			on = append(on, Key{Press: a.Press, Does: a.Does})
		}
	}
	return append(on, off...)
}

// Anywhere tells that a key does something now that is not about what the cursor is on.
func Anywhere[T any](of T, all []Action[T], key string) bool {
	return slices.ContainsFunc(there(of, all), func(a Action[T]) bool { return a.Anywhere && a.Press == key })
}

// Press does what a key does, or says why not; it is false for a key that does nothing
// here.
func Press[T any](of T, all []Action[T], key string) (cmd tea.Cmd, done bool) {
	for _, a := range there(of, all) {
		if a.Press != key && !slices.Contains(a.Also, key) {
			continue
		}
		if why := a.off(of); why != "" {
			return Cmd(Say{Text: "Not here: " + why + "."}), true
		}
		return a.Do(of, key), true
	}
	return nil, false
}
