package kind

import (
	"context"
	"time"

	"lumtra/core/place"
	"lumtra/core/secret"
)

// Kind is one kind of endpoint.
type Kind struct {
	// Name is what settings call it: kind = "s3".
	Name string
	// Speaks is what people call what is there: "S3 API"; Thing the same within a
	// sentence, with its article: "a folder".
	Speaks, Thing string
	// Buckets tells that buckets lie at its top; ReadOnly that nothing can be written
	// there; Remote that it is reached by requests, which take time and may cost money;
	// Encodes that it keeps whether content is compressed.
	Buckets, ReadOnly, Remote, Encodes bool
	// Bucket is what people call one of them: "bucket", "container".
	Bucket string
	// Files tells that its places are files of this machine, below [Settings.Path].
	Files bool
	// Without has why no place of the kind can do what not all places can.
	Without map[place.Skill]string
	// Signs is what its endpoints sign with; nil for what needs no credentials.
	Signs *Signs
	// Asks are the settings that a form asks for, beside the name, where it is and what it
	// signs with.
	Asks []Ask
	// StandIn is what a stand-in has to speak; "" where there is none.
	StandIn string

	// Check names the wrong setting and what is wrong with it, "" when all is well.
	Check func(*Settings) (setting, what string)
	// Open opens an endpoint by its settings. It does not touch the network.
	Open func(context.Context, *Settings, Means) (place.Endpoint, error)
	// Read makes settings of what somebody typed or pasted, and says how well it fits.
	// Its error never shows the text, which may hold a secret.
	Read func(text string) (Pasted, Fit, error)
	// Until is when a credential of the kind runs out by what it says of itself; zero
	// where it does not say. Nil where none does.
	Until func(secret.Credential) time.Time
}

// Signs is what the endpoints of a kind sign with.
type Signs struct {
	// Who is what the name beside a secret is called, and As what a name with its secret
	// is kept as.
	Who string
	As  secret.Kind
	// Name is the setting that has the name.
	Name func(*Settings) *string
	// Tokens tells that session tokens go along; Shared that profiles and the chain of
	// credentials of this machine can be used; Access that a signed access takes the
	// place of name and secret.
	Tokens, Shared, Access bool
}

// Ask is one setting that a form asks for.
type Ask struct {
	// Label is the field's name, Hint what an empty one means.
	Label, Hint string
	// Choices are what can be chosen, the first being the same as nothing; nil for text.
	Choices []string
	Of      func(*Settings) *string
}

// The settings that all kinds reached over HTTP have.
var (
	AskBucket = Ask{Label: "only bucket", Hint: "all of them", Of: func(s *Settings) *string { return &s.Bucket }}
	AskCA     = Ask{Label: "own CA", Hint: "the system's authorities",
		Of: func(s *Settings) *string { return &s.CAFile }}
	AskProxy = Ask{Label: "proxy", Hint: "as the environment says", Of: func(s *Settings) *string { return &s.Proxy }}
)

// Means are what an endpoint is opened with, besides its settings.
type Means struct {
	// Path and CAFile are the settings' as paths that lead there from anywhere.
	Path, CAFile string
	// Address is where a stand-in listens; "" for the settings' own.
	Address string
	Login   Login
	// Known is what is known of the store.
	Known *place.Known
}

// Login is what requests are signed with.
type Login struct {
	// Name is an access key or account.
	Name          string
	Secret, Token secret.Text
	// Access is the query of a signed address, in place of name and secret.
	Access secret.Text
	// Shared has the kind look for the credentials of Profile that this machine's
	// programs share; "" for the first of their chain.
	Shared  bool
	Profile string
}

// Empty tells that nothing is there to sign with.
func (l *Login) Empty() bool {
	return l.Name == "" && l.Secret.Empty() && l.Access.Empty() && !l.Shared
}

// Fit is how well a kind fits what somebody pasted.
type Fit int

// The degrees. Of kinds that fit alike the first that is listed is taken.
const (
	No     Fit = iota // it cannot be
	Maybe             // it can
	Likely            // it looks like it
	Surely            // nothing else can be meant
)

// Pasted is what was made of text that somebody pasted to name an endpoint.
type Pasted struct {
	Endpoint Settings
	// Credential holds the secret part, if there was one.
	Credential *secret.Credential
	// Access is what a signed address says of itself.
	Access *Access
	// Text is what was pasted, where it holds no secret.
	Text string
}

// Access is what a signed access says of itself, without its signature.
type Access struct {
	// Bucket is the one container it opens, "" for the account; Blob the one blob, ""
	// for all.
	Bucket, Blob string
	// Allows are its permissions in words.
	Allows []string
	// From and Until bound its validity; zero where it does not say.
	From, Until time.Time
	// Policy names a policy of the container that has the rest.
	Policy string
}

// Validity says until when it is good, or that it no longer is; "" where it does not say.
func (a *Access) Validity(now time.Time) string {
	const form = "2006-01-02 15:04 MST"
	switch {
	case a.Until.IsZero():
		return ""
	case !a.Until.After(now):
		return "It expired on " + a.Until.Local().Format(form) + ": it opens nothing any more."
	case a.From.After(now):
		return "It is good from " + a.From.Local().Format(form) + " until " + a.Until.Local().Format(form) + "."
	}
	return "It is good until " + a.Until.Local().Format(form) + "."
}
