-- +goose Up

-- What a credential is that is no secret: a public key, a certificate, an issuer that is trusted, as JSON; and of an enrolment
-- code for an app, where it may be used and whether it was.
ALTER TABLE credentials ADD COLUMN detail TEXT NOT NULL DEFAULT '';

-- The SHA-256 of the certificate that a connection must show with this token, in hex; empty for none.
ALTER TABLE tokens ADD COLUMN bound TEXT NOT NULL DEFAULT '';

-- What somebody read, not only who read something.
CREATE INDEX uses_other ON uses (kind, other);
