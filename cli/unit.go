package cli

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"strings"
	"text/template"

	"github.com/spf13/cobra"

	"lumtra/core/atomicfile"
	"lumtra/core/job"
	"lumtra/core/object"
	"lumtra/service/workspace"
)

// unit is a service unit of systemd: systemd.service(5), systemd.exec(5). It asks for what a program
// that copies files anywhere can do without, and for no more.
var unit = template.Must(template.New("unit").Parse(`# Written by lumtra service install; it may be changed.
[Unit]
Description=Lumtra: jobs of {{.Title}}
Wants=network-online.target
After=network-online.target

[Service]
Type=notify
ExecStart={{.Command}}
ExecReload=/bin/kill -USR1 $MAINPID
Restart=on-failure
RestartSec=5
WatchdogSec=120
TimeoutStopSec=90
UMask=0077
{{- if .User}}
User={{.User}}
{{- end}}
{{- if .Passphrase}}
{{.Load}}=lumtra-passphrase:{{.Passphrase}}
Environment=LUMTRA_PASSPHRASE_FROM=file:%d/lumtra-passphrase
{{- end}}
NoNewPrivileges=yes
LockPersonality=yes
RestrictRealtime=yes
RestrictSUIDSGID=yes
SystemCallArchitectures=native
RestrictAddressFamilies=AF_UNIX AF_INET AF_INET6
{{- if .User}}
ProtectKernelModules=yes
ProtectKernelTunables=yes
ProtectControlGroups=yes
ProtectClock=yes
ProtectHostname=yes
PrivateDevices=yes
CapabilityBoundingSet={{.Capabilities}}
{{- end}}

[Install]
WantedBy={{if .User}}multi-user.target{{else}}default.target{{end}}
`))

// unitOptions are the flags of install.
type unitOptions struct {
	system, print        bool
	passphrase           string
	encrypted            bool
	metrics, metricsFile string
}

func (a *app) serviceInstallCommand() *cobra.Command {
	var opts unitOptions
	c := &cobra.Command{
		Use: "install", Short: "Have the system start the background service, at login or at boot", Args: cobra.NoArgs,
		Long: `Write a unit of systemd for the background service of this workspace: one of yours, that begins when
you log in (or at boot, once lingering is on: loginctl enable-linger), or with --system one of the
machine's, that begins at boot and runs as you. It tells systemd when it is ready and that it is
alive, and keeps to what it needs.

The passphrase of the kept credentials is handed over by systemd (--passphrase FILE); encrypt it
first with systemd-creds encrypt, and say --encrypted.`,
		Example: "  lumtra service install --print\n  lumtra service install\n  sudo lumtra service install --system",
		RunE:    func(*cobra.Command, []string) error { return a.install(&opts) },
	}
	f := c.Flags()
	f.BoolVar(&opts.system, "system", false, "a unit of the machine, in /etc/systemd/system")
	f.BoolVar(&opts.print, "print", false, "print the unit, and write nothing")
	f.StringVar(&opts.passphrase, "passphrase", "", "the file with the passphrase of the kept credentials")
	f.BoolVar(&opts.encrypted, "encrypted", false, "that file was made by systemd-creds encrypt")
	f.StringVar(&opts.metrics, "metrics", "", "the service answers /metrics at this address")
	f.StringVar(&opts.metricsFile, "metrics-file", "", "the service writes its metrics into this file")
	return c
}

// unitWord is a word of a command line as systemd reads it: systemd.service(5), "Command lines".
func unitWord(text string) string {
	text = strings.NewReplacer("%", "%%", "$", "$$", `\`, `\\`, `"`, `\"`).Replace(text)
	return `"` + text + `"`
}

// runsAs is the user that a unit of the machine runs as: this one, or who became root by sudo, whose
// workspace and state are meant then.
func runsAs() (*user.User, error) {
	u, err := user.Current()
	if name := os.Getenv("SUDO_USER"); err == nil && u.Uid == "0" && name != "" {
		u, err = user.Lookup(name)
	}
	return u, err
}

// rootNeeds is what root keeps of its powers: those over files, for which it is asked to run.
const rootNeeds = "CAP_DAC_OVERRIDE CAP_DAC_READ_SEARCH CAP_CHOWN CAP_FOWNER"

// install prints the unit, or writes it. It leaves the state alone, which belongs to whom the unit runs as.
func (a *app) install(opts *unitOptions) error {
	program, err := os.Executable()
	if err != nil {
		return err
	}
	who, capabilities := "", ""
	if opts.system {
		u, err := runsAs()
		if err != nil {
			return err
		}
		if who, a.home = u.Username, u.HomeDir; u.Uid == "0" {
			capabilities = rootNeeds
		}
	}
	if err := a.folders(); err != nil {
		return err
	}
	if err := a.hasWorkspace(); err != nil {
		return err
	}
	w, err := job.LoadWorkspace(a.workspace)
	if err != nil {
		return workspace.BadInput(err)
	}
	for _, file := range []*string{&a.state, &opts.passphrase, &opts.metricsFile} { // a unit begins in another folder
		if *file != "" && err == nil {
			*file, err = filepath.Abs(*file)
		}
	}
	if err != nil {
		return err
	}
	dir, err := filepath.Abs(a.workspace)
	if err == nil && strings.ContainsAny(dir+a.state+opts.passphrase+opts.metrics+opts.metricsFile, "\n\r\x00") {
		err = errors.New("a unit cannot name what has line ends in it")
	}
	if err != nil {
		return workspace.BadInput(err)
	}
	words := []string{unitWord(program), "--workspace", unitWord(dir), "--state", unitWord(a.state), "service"}
	for flag, v := range map[string]string{"--metrics": opts.metrics, "--metrics-file": opts.metricsFile} {
		if v != "" {
			words = append(words, flag, unitWord(v))
		}
	}
	load := "LoadCredential"
	if opts.encrypted {
		load = "LoadCredentialEncrypted"
	}
	var b bytes.Buffer
	if err := unit.Execute(&b, map[string]any{"Title": object.Display(strings.ReplaceAll(w.Title, "%", "%%")),
		"Command": strings.Join(words, " "), "User": who, "Load": load, "Capabilities": capabilities,
		"Passphrase": strings.ReplaceAll(opts.passphrase, "%", "%%")}); err != nil {
		return err
	}
	if opts.print {
		a.out.say("unit", map[string]any{"text": b.String()}, strings.TrimRight(b.String(), "\n"))
		return nil
	}
	return a.writeUnit(dir, b.Bytes(), opts)
}

// unitName is that of a workspace's unit in a folder of units: another one where that of a workspace
// elsewhere has the name.
func unitName(units, dir string) string {
	name := unitNamed(filepath.Base(dir))
	if there, err := os.ReadFile(filepath.Join(units, name)); err == nil &&
		!bytes.Contains(there, []byte("--workspace "+unitWord(dir))) {
		sum := sha256.Sum256([]byte(dir))
		name = unitNamed(filepath.Base(dir) + "-" + hex.EncodeToString(sum[:6]))
	}
	return name
}

func unitNamed(name string) string {
	name = strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '-' || r == '_' {
			return r
		}
		return '-'
	}, name)
	return "lumtra-" + name + ".service"
}

func (a *app) writeUnit(dir string, text []byte, opts *unitOptions) error {
	to, manager := "/etc/systemd/system", "systemctl"
	if !opts.system {
		config, err := os.UserConfigDir()
		if err != nil {
			return err
		}
		to, manager = filepath.Join(config, "systemd", "user"), "systemctl --user"
	}
	name := unitName(to, dir)
	path := filepath.Join(to, name)
	if err := os.MkdirAll(to, 0o755); err != nil {
		return err
	}
	if err := atomicfile.Write(path, text, 0o644); err != nil {
		return err
	}
	a.out.say("exported", map[string]any{"file": path}, object.Display(path)+" written. It begins with:")
	a.out.say("", nil, fmt.Sprintf("  %s daemon-reload && %s enable --now %s", manager, manager, name))
	if !opts.system {
		a.out.say("", nil,
			"It goes on after you log out, and begins at boot, once this was said: loginctl enable-linger")
	}
	return nil
}
