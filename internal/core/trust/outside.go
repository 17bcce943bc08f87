package trust

import "time"

// Outside is a certificate that somebody outside the field has issued, for those who reach a role by its names. Its key and its chain are in the keyring,
// as the secret of that name and number.
type Outside struct {
	Number int       `json:"number"` // from 1; each that is installed makes another
	Names  []string  `json:"names"`
	Serial string    `json:"serial"`
	Issuer string    `json:"issuer"`
	From   time.Time `json:"from"`
	Until  time.Time `json:"until"` // of what ends first of the chain
}

// Soon is how long before its end a certificate from outside is called for: nobody here can renew it.
const Soon = 21 * 24 * time.Hour

// OutsideSecret is the name of the secret that a role's certificate from outside is kept as.
func OutsideSecret(role string) string { return "outside-" + role }
