// Package wire is what the service's answers say of items and versions, in the shapes that the client has.
package wire

import (
	"encoding/json"

	"tansu/client"
	"tansu/internal/certrow"
	"tansu/internal/core/cert"
	"tansu/internal/core/lifecycle"
	"tansu/internal/keyrow"
	"tansu/internal/shelf"
)

// Item is an item.
func Item(it shelf.Item) client.Item {
	return client.Item{Notes: it.Notes, Reference: it.Reference, Name: it.Name, Kind: it.Kind, Description: it.Description, Owner: it.Owner,
		Shape: string(it.Shape), Labels: it.Labels, Approval: it.Approval, EndsAt: it.Ends, Rules: Rules(it.Rules),
		OwnRules: Rules(it.OwnRules), UseOnly: it.UseOnly, Key: Key(it.Key, it.DecryptFrom),
		Certificate: Certificate(it.Certificate), ServedAt: it.ServedAt,
		Held: it.Held, Suspended: it.Suspended, RetiredAt: it.RetiredAt, State: it.State,
		Current: it.Current, Versions: it.Versions, NotAfter: it.NotAfter, ChangedAt: it.ChangedAt, ChangedBy: it.ChangedBy,
		CreatedAt: it.CreatedAt, CreatedBy: it.CreatedBy, Revision: it.Revision}
}

// Version is a version without its value.
func Version(v shelf.Version) client.Version {
	fields := []client.FieldInfo{}
	for _, f := range v.Fields {
		fields = append(fields, client.FieldInfo(f))
	}
	return client.Version{Fields: fields, Notes: v.Notes, Version: v.Number, State: v.State, Current: v.Current, Size: v.Size,
		EndsInNewline: v.EndsInNewline, Note: v.Note,
		NotBefore: v.NotBefore, NotAfter: v.NotAfter, EndsAt: v.Ends, CreatedAt: v.CreatedAt, CreatedBy: v.CreatedBy,
		PublicKey: json.RawMessage(v.PublicKey), Certificate: Certificate(v.Certificate)}
}

// Key is what is known of a key; nil for another item.
func Key(f *keyrow.Facts, decryptFrom int) *client.KeyFacts {
	if f == nil {
		return nil
	}
	return &client.KeyFacts{Type: string(f.Type), Operations: f.Operations.Names(), GivenOut: f.GivenOut, DecryptFrom: decryptFrom}
}

// Rules are a drawer's rules, or an item's.
func Rules(r lifecycle.Rules) client.Rules {
	text := func(s lifecycle.Span) string {
		if s == 0 {
			return ""
		}
		return s.String()
	}
	return client.Rules{MaxAge: text(r.MaxAge), NeedsEnd: r.NeedsEnd, Warn: text(r.Warn), Grace: text(r.Grace), Idle: text(r.Idle),
		Keep:  r.Keep,
		Owner: r.Owner, Recipe: r.Recipe, RetireFor: text(r.RetireFor), HostKeeps: text(r.HostKeeps), TwoToShred: r.TwoToShred}
}

// Certificate is what is known of a certificate, or of a profile; nil for another item.
func Certificate(f *certrow.Facts) *client.Certificate {
	if f == nil {
		return nil
	}
	answer := CertificateFacts(f.Facts)
	answer.Request, answer.Renewable, answer.Revoked = f.Request, f.Made != "", f.Revoked
	if f.Profile != nil {
		profile := Profile(f.Profile)
		answer.Profile = &profile
	}
	return &answer
}

// CertificateFacts are what a certificate says.
func CertificateFacts(f cert.Facts) client.Certificate {
	return client.Certificate{Subject: f.Subject, CommonName: f.CommonName, Names: list(f.Names), Issuer: f.Issuer, Serial: f.Serial,
		NotBefore: f.NotBefore, NotAfter: f.NotAfter, KeyType: f.KeyType, Usages: list(f.Usages), Fingerprint: f.Fingerprint,
		SelfSigned: f.SelfSigned, Authority: f.Authority, PathLength: f.PathLength, Within: f.Within}
}

// list is a list that is there, if only empty.
func list(of []string) []string { return append([]string{}, of...) }

// Profile is what an authority certifies.
func Profile(p *cert.Profile) client.CertificateProfile {
	answer := client.CertificateProfile{Authority: p.Authority, Names: p.Names, Networks: p.Networks, URIs: p.URIs, Mail: p.Mail,
		Subjects: p.Subjects, Wildcards: p.Wildcards, KeyTypes: p.KeyTypes, Usages: p.Usages, Longest: p.Longest.String(),
		SSH: p.For, Principals: p.Principals, Extensions: p.Extensions, Command: p.Command}
	if p.JWT != nil {
		jwt := client.JWTProfile(*p.JWT)
		answer.JWT = &jwt
	}
	return answer
}
