package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	ics "github.com/arran4/golang-ical"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What comes is told, and written as a calendar that another reader takes.
func TestAgenda(t *testing.T) {
	s := shore(t)
	s.put("studio/a.wav", "a")
	s.put("jobs/masters.toml", "source = \"studio\"\ntarget = \"copy/masters\"\n")
	s.ends(ExitDone, "No job starts by itself", "agenda")
	s.put("jobs/masters.toml", "source = \"studio\"\ntarget = \"copy/masters\"\n[when]\nstart = \"daily at 01:30\"\n")
	s.put("jobs/later.toml", "source = \"copy/masters\"\ntarget = \"copy/later\"\n[when]\nstart = \"after masters\"\n")
	said := s.ends(ExitDone, "masters", "agenda", "--ahead", "3d")
	assert.Equal(t, 3, strings.Count(said, "01:30"), said)
	assert.Contains(t, said, "after masters has ended well")
	assert.NotContains(t, s.ends(ExitDone, "later", "agenda", "--job", "later"), "01:30")
	s.ends(ExitBadInput, "no job", "agenda", "--job", "nobody")
	s.ends(ExitBadInput, "are ages", "agenda", "--ahead", "soon")
	path := filepath.Join(s.dir, "coming.ics")
	s.ends(ExitDone, "3 starts", "agenda", "--ahead", "3d", "--calendar", path)
	f, err := os.Open(path)
	require.NoError(t, err)
	defer f.Close()
	cal, err := ics.ParseCalendar(f)
	require.NoError(t, err)
	require.Len(t, cal.Events(), 3)
	at, err := cal.Events()[0].GetStartAt()
	require.NoError(t, err)
	assert.Equal(t, "01:30", at.Local().Format("15:04"))
	assert.Contains(t, cal.Events()[0].GetProperty(ics.ComponentPropertyDescription).Value, "studio to copy/masters")
	s.ends(ExitDone, "Type=notify", "service", "install", "--print", "--passphrase", "/etc/p", "--encrypted")
	assert.Contains(t, s.ends(ExitDone, "User=", "service", "install", "--print", "--system"), "multi-user.target")
	s.ends(ExitNothing, "Nobody is told", "notify", "list")
	s.ends(ExitBadInput, "no notify", "notify", "test", "nobody")
	s.put("service.toml", "[notify.me]\nkind = \"command\"\ncommand = [\"false\"]\n")
	s.ends(ExitBadInput, "nobody here has let it yet", "notify", "test", "me")
	s.ends(ExitDone, "Confirmed", "notify", "confirm", "me")
	s.ends(ExitCannot, "exit status 1", "notify", "test", "me")
	s.put("service.toml", "[notify.me]\nkind = \"pigeon\"\n")
	s.ends(ExitFailures, `kind is "pigeon"`, "job", "list")
}
