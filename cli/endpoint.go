package cli

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"
	"golang.org/x/sys/unix"
	"golang.org/x/term"

	"lumtra/core/object"
	"lumtra/core/place/kind"
	"lumtra/core/place/kinds"
	"lumtra/core/probe"
	"lumtra/core/secret"
	"lumtra/service"
	"lumtra/service/workspace"
)

func (a *app) endpointCommand() *cobra.Command {
	c := &cobra.Command{Use: "endpoint", Short: "Add, test, list and delete endpoints", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() }}
	c.AddCommand(a.endpointAddCommand(), a.endpointConfirmCommand(), a.endpointTestCommand(), a.endpointListCommand(),
		a.endpointRemoveCommand())
	return c
}

func (a *app) endpointAddCommand() *cobra.Command {
	var e kind.Settings
	var keep string
	c := &cobra.Command{
		Use: "add NAME WHERE",
		Example: "  lumtra endpoint add studio /srv/studio\n" +
			"  lumtra endpoint add north https://s3.example.org --access-key AKEXAMPLE --keep north\n" +
			"  lumtra endpoint add loans https://blobs.example.org --account marsh --keep loans\n" +
			"  lumtra endpoint add tapes - < signed-address",
		Short: "Add a folder, a store or a list of web addresses",
		Long: `Adds an endpoint to endpoints.toml. WHERE is a folder, a store's address, or a
.csv or .txt list of web addresses. A signed address, whose query is a secret,
goes through a pipe: WHERE is then "-", and the secret part is kept encrypted.

With --keep LABEL a new secret is kept under the label: from a pipe, else asked
for without echo.`,
		Args: cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			if strings.Contains(args[1], "sig=") {
				return fmt.Errorf(`%w: a signed address does not belong on the command line, where other users and `+
					`the shell's history see it: give "-" and pipe it in`, errUsage)
			}
			return a.withService(cmd.Context(), func(s *service.Service) error {
				where := args[1]
				if where == "-" {
					text, err := a.readSecret(cmd.Context(), cmd.InOrStdin(), "Address")
					if err != nil {
						return err
					}
					where = text.Reveal()
				}
				p, err := kinds.Read(where)
				if err != nil {
					return fmt.Errorf("%w: %w", errUsage, err)
				}
				if e.Kind == "" { // an access key and an account say it, whatever the address looks like
					e.Kind = kinds.SignedBy(&e)
				}
				settings, given, err := a.newEndpoint(cmd, args[0], keep, e, kinds.As(p, e.Kind))
				if err != nil {
					return err
				}
				if err := s.SaveEndpoint("", settings, given); err != nil {
					return err
				}
				text := fmt.Sprintf("Added %s (%s).", settings.Name, settings.Kind)
				fields := map[string]any{"name": settings.Name, "kind": settings.Kind}
				if p.Access != nil {
					text += " It allows: " + strings.Join(p.Access.Allows, ", ") + "."
					fields["allows"], fields["until"] = p.Access.Allows, p.Access.Until
					if validity := p.Access.Validity(time.Now()); validity != "" {
						text += " " + validity
					}
				}
				if kinds.Of(&settings).Files {
					if _, err := os.Stat(s.Below(settings.Path)); errors.Is(err, os.ErrNotExist) {
						text += " There is no folder " + object.Display(s.Below(settings.Path)) +
							" yet: make it before a job " +
							"brings anything there or from there."
						fields["state"] = "missing"
					}
				}
				a.out.say("endpoint", fields, text)
				a.next("find out what it allows and can do", "endpoint", "test", settings.Name)
				return nil
			})
		},
	}
	f := c.Flags()
	f.StringVar(&e.Kind, "kind", "", `"s3" or "blob" (default: what the address looks like)`)
	f.StringVar(&e.Region, "region", "", "region of an S3 store")
	f.StringVar(&e.Addressing, "addressing", "", `"path" or "host": where buckets stand`)
	f.StringVar(&e.Bucket, "bucket", "", "the only bucket the credentials open")
	f.StringVar(&e.AccessKey, "access-key", "", "access key of an S3 store")
	f.StringVar(&e.Account, "account", "", "account of a Blob store")
	f.StringVar(&e.SecretFrom, "secret-from", "", `where the secret lies: "env:NAME" or "file:PATH"`)
	f.StringVar(&e.Credential, "credential", "", `"kept:LABEL", "profile:NAME" or "chain"`)
	f.StringVar(&keep, "keep", "", "keep a new secret under this label, and sign with it")
	f.StringVar(&e.CAFile, "ca-file", "", "PEM file with the authority of the store's certificate")
	f.StringVar(&e.Proxy, "proxy", "", `proxy's address, or "none"`)
	return c
}

// newEndpoint puts flags and what was taken apart together.
func (a *app) newEndpoint(cmd *cobra.Command, name, keep string, e kind.Settings, p kind.Pasted) (kind.Settings,
	*secret.Credential, error) {
	e.Name, e.Path, e.Address = name, p.Endpoint.Path, p.Endpoint.Address
	e.Kind, e.Bucket, e.Account = cmp.Or(e.Kind, p.Endpoint.Kind), cmp.Or(e.Bucket, p.Endpoint.Bucket),
		cmp.Or(e.Account, p.Endpoint.Account)
	if p.Credential != nil {
		given := *p.Credential
		given.Label = cmp.Or(keep, name)
		return e, &given, nil
	}
	if keep == "" {
		return e, nil, nil
	}
	text, err := a.readSecret(cmd.Context(), cmd.InOrStdin(), "Secret of "+keep)
	signs := kinds.Of(&e).Signs
	if signs == nil {
		return e, nil, fmt.Errorf("%w: %s takes no secret", errUsage, kinds.Of(&e).Thing)
	}
	return e, &secret.Credential{Kept: secret.Kept{Label: keep, Kind: signs.As, Name: *signs.Name(&e)},
		Secret: text}, err
}

// readSecret takes one line: from a pipe, else from the terminal without echo.
func (a *app) readSecret(ctx context.Context, in io.Reader, what string) (secret.Text, error) {
	line := ""
	if f, ok := in.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		echo, err := withoutEcho(f) // before anybody is asked, so that it is over when Ctrl-C is pressed
		if err != nil {
			return secret.Text{}, err
		}
		fmt.Fprint(a.errOut, what+" (not shown): ")
		line, err = answer(ctx, func() (string, error) { return bufio.NewReader(f).ReadString('\n') })
		if err == io.EOF {
			err = nil
		}
		fmt.Fprintln(a.errOut)
		if err := errors.Join(err, echo()); err != nil {
			return secret.Text{}, err
		}
	} else {
		var err error
		if line, err = bufio.NewReader(in).ReadString('\n'); err != nil && err != io.EOF {
			return secret.Text{}, err
		}
	}
	if line = strings.TrimSpace(line); line == "" {
		return secret.Text{}, fmt.Errorf("%w: nothing came in for: %s", errUsage, what)
	}
	return secret.New(line), nil
}

// withoutEcho has a terminal not show what is typed, until the function that it gives is called.
func withoutEcho(f *os.File) (again func() error, err error) {
	fd := int(f.Fd())
	was, err := unix.IoctlGetTermios(fd, unix.TCGETS)
	if err != nil {
		return nil, err
	}
	quiet := *was
	quiet.Lflag &^= unix.ECHO
	quiet.Lflag |= unix.ICANON | unix.ISIG
	quiet.Iflag |= unix.ICRNL
	if err := unix.IoctlSetTermios(fd, unix.TCSETS, &quiet); err != nil {
		return nil, err
	}
	return func() error { return unix.IoctlSetTermios(fd, unix.TCSETS, was) }, nil
}

func (a *app) endpointTestCommand() *cobra.Command {
	var opts probe.Options
	var readOnly bool
	c := &cobra.Command{
		Use: "test NAME",
		Example: "  lumtra endpoint test north\n" +
			"  lumtra endpoint test north --bucket archive --read-only",
		Short: "Find out by trying what an endpoint allows and can do",
		Long: `Tries an endpoint step by step: reaching it, clocks, signing, listing, writing,
checksums, parts, rates. A small object is written and deleted again, unless
--read-only. What is found is kept and used by plans. Ends with 1 when a step was refused.`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.withService(cmd.Context(), func(s *service.Service) error {
				opts.Write = !readOnly
				r, err := s.TestEndpoint(cmd.Context(), args[0], opts)
				if err != nil {
					return interrupted(cmd.Context(), err)
				}
				for _, c := range r.Checks {
					text := fmt.Sprintf("%-13s %-16s %s", c.Outcome, c.Name, object.Display(c.Found))
					if c.Mend != "" {
						text += "\n         " + strings.Repeat(" ", 17) + object.Display(c.Mend)
					}
					a.out.say("step", map[string]any{"name": c.Name, "outcome": c.Outcome, "found": c.Found,
						"mend": c.Mend, "seconds": c.Took.Seconds()}, text)
				}
				a.out.say("test", map[string]any{"endpoint": r.Endpoint, "bucket": r.Bucket, "refused": r.Refused(),
					"latency_seconds": r.Latency.Seconds(),
					"skew_seconds":    r.Skew.Seconds(), "up_bytes_per_second": r.Up, "down_bytes_per_second": r.Down,
					"versioning": r.Versioning},
					fmt.Sprintf("%d of %d steps denied.", r.Refused(), len(r.Checks)))
				if r.Refused() > 0 {
					return errFailures
				}
				return nil
			})
		},
	}
	c.Flags().StringVar(&opts.Bucket, "bucket", "", "bucket to try in (default: the first that is listed)")
	c.Flags().BoolVar(&readOnly, "read-only", false, "write nothing")
	return c
}

func (a *app) endpointListCommand() *cobra.Command {
	return &cobra.Command{
		Use: "list",
		Example: "  lumtra endpoint list\n" +
			"  lumtra endpoint list --json", Short: "List endpoints and how their last test went", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.withService(cmd.Context(), func(s *service.Service) error {
				for _, name := range s.EndpointNames() {
					e := s.Workspace().Endpoints[name]
					state := "not tested"
					if r := s.Report(name); r != nil {
						if state = "works"; r.Refused() > 0 {
							state = fmt.Sprintf("%d denied", r.Refused())
						}
					}
					at := cmp.Or(e.Path, e.Address, e.StandIn)
					a.out.say("endpoint", map[string]any{"name": name, "kind": e.Kind, "at": at,
						"credential": e.Credential, "state": state},
						fmt.Sprintf("%-20s %-7s %-12s %s", name, e.Kind, state, object.Display(at)))
				}
				return nil
			})
		},
	}
}

func (a *app) endpointRemoveCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "delete NAME",
		Example: "  lumtra endpoint delete north", Short: "Delete an endpoint that no job names; what lies there stays",
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.withService(cmd.Context(), func(s *service.Service) error {
				if err := s.RemoveEndpoint(args[0]); err != nil {
					return err
				}
				a.out.say("deleted", map[string]any{"endpoint": args[0]}, "Deleted the settings of "+args[0]+".")
				return nil
			})
		},
	}
}

func (a *app) credentialCommand() *cobra.Command {
	c := &cobra.Command{Use: "credential", Short: "Keep secrets encrypted, once, for many endpoints",
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() }}
	c.AddCommand(a.credentialKeepCommand(), a.credentialListCommand(), a.credentialRemoveCommand(),
		a.credentialLockCommand())
	return c
}

func (a *app) credentialKeepCommand() *cobra.Command {
	var kind, name, from, tokenFrom string
	c := &cobra.Command{
		Use: "keep LABEL",
		Example: "  lumtra credential keep north < secret\n" +
			"  lumtra credential keep hill --kind account-key --name hillaccount",
		Short: "Keep a secret under a label, or put another in its place",
		Long: `Takes a secret from a pipe, from --from, or asks for it without echo, and keeps
it encrypted under the label. Under a known label it takes the old one's place:
every endpoint that uses it signs with the new one.`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.withService(cmd.Context(), func(s *service.Service) error {
				c := secret.Credential{Kept: secret.Kept{Label: args[0], Kind: secret.Kind(kind), Name: name}}
				var err error
				if from != "" {
					c.Secret, err = secret.Resolve(from)
				} else {
					c.Secret, err = a.readSecret(cmd.Context(), cmd.InOrStdin(), "Secret of "+args[0])
				}
				if err == nil && tokenFrom != "" {
					c.Token, err = secret.Resolve(tokenFrom)
				}
				if err != nil {
					return fmt.Errorf("%w: %w", errUsage, err)
				}
				if err := s.KeepCredential(c); err != nil {
					return err
				}
				a.out.say("kept", map[string]any{"label": c.Label, "fingerprint": c.Secret.Fingerprint()},
					fmt.Sprintf("Kept %s, fingerprint %s.", c.Label, c.Secret.Fingerprint()))
				return nil
			})
		},
	}
	c.Flags().StringVar(&kind, "kind", "", `"key-pair", "account-key" or "signed-access" (default: as it was)`)
	c.Flags().StringVar(&name, "name", "", "the access key or the account")
	c.Flags().StringVar(&from, "from", "", `where the secret lies: "env:NAME" or "file:PATH"`)
	c.Flags().StringVar(&tokenFrom, "token-from", "", "the same for a session token")
	return c
}

func (a *app) credentialListCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "list",
		Example: "  lumtra credential list", Short: "List what is kept, by fingerprint, and who uses it",
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.withService(cmd.Context(), func(s *service.Service) error {
				all, err := s.Credentials()
				for _, c := range all {
					used := "not used"
					if len(c.UsedBy) > 0 {
						used = "used by " + strings.Join(c.UsedBy, ", ")
					}
					until := ""
					if !c.Until.IsZero() {
						until = ", good until " + c.Until.Local().Format("2006-01-02 15:04")
					}
					a.out.say("credential", map[string]any{"label": c.Label, "kind": c.Kind, "name": c.Name,
						"fingerprint": c.Fingerprint, "changed": c.Changed, "until": c.Until, "used_by": c.UsedBy},
						fmt.Sprintf("%-20s %-14s %-20s %s, set %s, %s%s", c.Label, c.Kind, c.Name, c.Fingerprint,
							humanize.Time(c.Changed), used, until))
				}
				return err
			})
		},
	}
}

func (a *app) credentialRemoveCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "delete LABEL",
		Example: "  lumtra credential delete north", Short: "Delete a credential that no endpoint uses",
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.withService(cmd.Context(), func(s *service.Service) error {
				if err := s.RemoveCredential(args[0]); err != nil {
					return err
				}
				a.out.say("deleted", map[string]any{"credential": args[0]}, "Deleted "+args[0]+".")
				return nil
			})
		},
	}
}

func (a *app) credentialLockCommand() *cobra.Command {
	var file string
	var beside bool
	c := &cobra.Command{
		Use: "lock",
		Example: "  lumtra credential lock\n" +
			"  lumtra credential lock --key-file /media/key/lumtra",
		Short: "Seal the kept credentials anew: with a passphrase, or a key file",
		Long: `Seals everything anew with a new key. Without a flag that key is locked with a
passphrase, from a pipe or asked for without echo. Where nobody is there to type
it, ` + workspace.PassphraseFrom + ` says where it lies: "env:NAME" or "file:PATH".`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.withService(cmd.Context(), func(s *service.Service) error {
				how, passphrase := secret.LockFile, secret.Text{}
				if !beside && file == "" {
					how = secret.LockPassphrase
					var err error
					if passphrase, err = a.readSecret(cmd.Context(), cmd.InOrStdin(), "New passphrase"); err != nil {
						return err
					}
				}
				left, err := s.Relock(how, passphrase, file)
				if err != nil {
					return err
				}
				text := fmt.Sprintf("The kept credentials are locked with a %s.",
					strings.ReplaceAll(string(how), "-", " "))
				if left != "" {
					text += " Nothing is sealed with " + object.Display(left) + " any more: it is yours to delete."
				}
				a.out.say("locked", map[string]any{"with": how, "left": left}, text)
				return nil
			})
		},
	}
	c.Flags().StringVar(&file, "key-file", "", "keep the key in this new file")
	c.Flags().BoolVar(&beside, "no-passphrase", false, "keep the key in a file beside the credentials")
	return c
}

// unlock asks for the passphrase of the kept credentials, where one is needed
// and somebody is there.
func (a *app) unlock(ctx context.Context, s *service.Service) error {
	used := false
	for _, e := range s.Workspace().Endpoints {
		used = used || e.Kept() != ""
	}
	if _, locked, err := s.CredentialsLocked(); err != nil || !locked || !used || !term.IsTerminal(int(os.Stdin.Fd())) {
		return err
	}
	for {
		passphrase, err := a.readSecret(ctx, os.Stdin, "Passphrase of the kept credentials")
		if err != nil {
			return err
		}
		if err = s.Unlock(passphrase); !errors.Is(err, secret.ErrPassphrase) {
			return err
		}
		fmt.Fprintln(a.errOut, secret.ErrPassphrase)
	}
}
