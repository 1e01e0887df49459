package main

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is refused, what has a reason beside it, and what is seen to be patient.
func TestRules(t *testing.T) {
	for line, refused := range map[string]string{
		`time.Sleep(time.Second)`:                                          "time.Sleep: use testkit.Until",
		`time.Sleep(time.Second) // the moment is what is tested`:          "",
		"// why\ntime.Sleep(time.Second)":                                  "",
		"// why\n\ntime.Sleep(time.Second)":                                "time.Sleep",
		`<-time.After(time.Minute)`:                                        "time.After: use testkit.Come",
		`<-time.After(testkit.Patience)`:                                   "",
		`require.Eventually(t, is, time.Hour, 1) // why`:                   "use testkit.Until",
		`ctx, stop := context.WithTimeout(ctx, time.Minute)`:               "testkit.Context",
		`ctx, stop := context.WithTimeout(ctx, testkit.Patience)`:          "",
		`l.SetReadDeadline(time.Now().Add(time.Second))`:                   "SetReadDeadline",
		`l.SetReadDeadline(time.Now().Add(testkit.Patience))`:              "",
		`for deadline := time.Now().Add(time.Second); ; {}`:                "a limit of its own",
		`for deadline := time.Now().Add(2 * testkit.Patience); ; {}`:       "",
		`until := time.Now().Add(time.Hour)`:                               "",
		`rapid.Check(t, nil)`:                                              "use testkit.Check",
		`n := chance.IntN(4)`:                                              "chance.IntN: use testkit.Dice",
		`n := chance.New(chance.NewPCG(1, 2))`:                             "",
		`time.Now().Add(time.Second)`:                                      "",
		`end := start.Add(time.Second)`:                                    "",
		`x.Sleep(1); dice.IntN(4)`:                                         "",
		`require.EventuallyWithT(t, is, time.Hour, 1)`:                     "use testkit.Until",
		`assert.Never(t, is, time.Second, 1); time.AfterFunc(1, func(){})`: "",
	} {
		src := "package x\n\nimport chance \"math/rand/v2\"\n\nfunc f() {\n" + line + "\n}\n"
		found, err := check("x_test.go", []byte(src))
		require.NoError(t, err, line)
		if refused == "" {
			assert.Empty(t, found, line)
		} else {
			assert.Contains(t, strings.Join(found, "\n"), refused, line)
		}
	}
	_, err := check("x_test.go", []byte("package"))
	assert.Error(t, err)
}

// The project's own tests are held to it, whoever runs them.
func TestTheTests(t *testing.T) {
	found, err := look("../..")
	require.NoError(t, err)
	assert.Empty(t, found)
}
