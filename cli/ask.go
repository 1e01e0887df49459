package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"

	"golang.org/x/term"

	"lumtra/service/workroom"
)

// errNotAgreed holds back what nobody agreed to.
var errNotAgreed = errors.New("not done: nobody agreed to it")

// agreed tells what would be done and asks whether to do it, unless yes says so already.
// Where nobody is there to answer, command is what does it.
func (a *app) agreed(ctx context.Context, yes bool, what string, command ...string) error {
	if yes {
		return nil
	}
	a.out.say("would", map[string]any{"what": what}, what)
	if line, there := a.ask(ctx, "Do it? [y/N] "); there {
		if line = strings.ToLower(line); line == "y" || line == "yes" {
			return nil
		}
		return errNotAgreed
	}
	a.next("do it", command...)
	return errNotAgreed
}

// approved tells what would be done and has a person type its number: with --approve, or at
// the question. Only who has read how much it is knows the number.
func (a *app) approved(ctx context.Context, number, given int64, isGiven bool, what string, fields map[string]any,
	command ...string) error {
	if isGiven && given == number {
		return nil
	}
	fields["what"], fields["number"] = what, number
	what += " Its number is " + strconv.FormatInt(number, 10) + "."
	a.out.say("would", fields, what)
	with := append(command, "--approve", strconv.FormatInt(number, 10))
	if isGiven {
		a.next("do it", with...)
		return fmt.Errorf("%w: it is %s now, not %s", workroom.ErrHeld, plural(number, "thing", "things"),
			countText(given))
	}
	if line, there := a.ask(ctx, "Type that number to do it: "); there {
		if typed, err := strconv.ParseInt(line, 10, 64); err == nil && typed == number {
			return nil
		}
		return errNotAgreed
	}
	a.next("do it", with...)
	return errNotAgreed
}

// ask asks a person at a terminal. It is false where there is none, or programs read what is said.
func (a *app) ask(ctx context.Context, question string) (line string, there bool) {
	if a.out.json || !term.IsTerminal(int(os.Stdin.Fd())) {
		return "", false
	}
	fmt.Fprint(a.errOut, question)
	line, err := answer(ctx, func() (string, error) { return bufio.NewReader(os.Stdin).ReadString('\n') })
	if err != nil {
		fmt.Fprintln(a.errOut)
	}
	return strings.TrimSpace(line), true
}
