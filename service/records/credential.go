package records

import "time"

// Credential is by what the service is let in at a host from which deliveries are fetched.
type Credential struct {
	ID          int64     `db:"id" json:"id"`
	Host        string    `db:"host" json:"host"`
	Header      string    `db:"header" json:"header" doc:"The name of the header that is sent; empty for none"`
	Secret      string    `db:"secret" json:"secret" doc:"The secret of the nodes that the header says"`
	Certificate string    `db:"certificate" json:"certificate" doc:"The secret of the nodes that is a certificate with its key, in PEM, by which the service proves who it is; empty for none"`
	Authority   string    `db:"authority" json:"authority" doc:"The secret of the nodes that is the certificate of the authority, in PEM, by which the host proves who it is; empty for those that the machine trusts"`
	CreatedBy   string    `db:"created_by" json:"created_by"`
	CreatedAt   time.Time `db:"created_at" json:"created_at"`
}

// NewCredential declares a credential.
type NewCredential struct {
	Host        string `json:"host" minLength:"1" maxLength:"260" pattern:"^[A-Za-z0-9._:\\[\\]-]+$" doc:"As addresses have it, with its port where they have one"`
	Header      string `json:"header,omitempty" maxLength:"100" pattern:"^[A-Za-z0-9-]*$" doc:"As Authorization"`
	Secret      string `json:"secret,omitempty" maxLength:"60"`
	Certificate string `json:"certificate,omitempty" maxLength:"60"`
	Authority   string `json:"authority,omitempty" maxLength:"60"`
}
