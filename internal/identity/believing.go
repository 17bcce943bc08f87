package identity

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"os"
)

// Believing are the terms on which somebody outside the field is spoken to: by the authority in a file, as PEM, or by those that the machine knows where no file
// is named.
func Believing(file string) (*tls.Config, error) {
	terms := &tls.Config{MinVersion: tls.VersionTLS12}
	if file == "" {
		return terms, nil
	}
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("the authority of its certificate cannot be read: %w", err)
	}
	if terms.RootCAs = x509.NewCertPool(); !terms.RootCAs.AppendCertsFromPEM(data) {
		return nil, fmt.Errorf("%s holds no certificate in PEM", file)
	}
	return terms, nil
}
