package s3

import (
	"context"
	"fmt"

	"github.com/aws/aws-sdk-go-v2/aws"
	"github.com/aws/aws-sdk-go-v2/config"
)

// SharedCredentials finds credentials where the API's SDKs share them, and the
// region that goes with them, if any ("Shared config and credentials files"). A
// profile names one; "" follows the whole chain: environment, files, the
// machine's role. Nothing is kept here, and short-lived ones are renewed as
// they are used.
func SharedCredentials(ctx context.Context, profile string) (aws.CredentialsProvider, string, error) {
	var opts []func(*config.LoadOptions) error
	if profile != "" {
		opts = append(opts, config.WithSharedConfigProfile(profile))
	}
	cfg, err := config.LoadDefaultConfig(ctx, opts...)
	if err != nil {
		return nil, "", fmt.Errorf("the shared credentials cannot be read: %w", err)
	}
	return cfg.Credentials, cfg.Region, nil
}
