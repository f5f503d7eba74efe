package vault

import (
	"context"
	"net"
	"net/url"
	"slices"
	"strings"

	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/store"
)

// HostOf is where a connection with these settings sends its secrets: a host with its port where that is told. It is empty where
// the address is a secret itself.
func HostOf(k *connection.Kind, chosen map[string]string) string {
	for _, set := range k.Settings {
		v := chosen[set.Name]
		switch {
		case v == "" || set.Type == setting.Secret:
		case set.Name == "host" && chosen["port"] != "":
			return strings.ToLower(net.JoinHostPort(v, chosen["port"]))
		case set.Name == "host":
			return strings.ToLower(v)
		case set.Name == "address":
			if u, err := url.Parse(v); err == nil && u.Host != "" {
				return strings.ToLower(u.Host)
			}
		}
	}
	return ""
}

// May says whether a secret may be used at a place: it was given for that, or for nothing yet.
func (v *Vault) May(ctx context.Context, name string, p store.Place) error {
	_, err := v.placed(ctx, name, p)
	return err
}

// placed is May; known says whether the secret has the place already.
func (v *Vault) placed(ctx context.Context, name string, p store.Place) (known bool, err error) {
	places, err := store.SecretPlaces(ctx, v.DB, v.Scope, name)
	if err != nil {
		return false, err
	}
	if slices.Contains(places, p) {
		return true, nil
	}
	at := slices.IndexFunc(places, func(other store.Place) bool { return other.Connection == p.Connection })
	switch {
	case at >= 0 && places[at].Host == "", len(places) == 0:
		return false, nil
	case at >= 0:
		return false, fault.New(fault.Setting, "the secret %s was given for %s at %s, and not for %s", name, p.Connection, places[at].Host, p.Host).
			WithFix("Write it anew here, if it is meant to be sent there")
	}
	return false, fault.New(fault.Setting, "the secret %s was given for %s, and not for %s", name, places[0].Connection, p.Connection).
		WithFix("Write it anew here, if it is meant for this connection, too")
}

// ConfirmPlace is May, and lets the secret be used at the place from then on.
func (v *Vault) ConfirmPlace(ctx context.Context, name string, p store.Place) error {
	known, err := v.placed(ctx, name, p)
	if err != nil || known {
		return err
	}
	return v.Place(ctx, name, p)
}

// Place lets a secret be used at a place that whoever has written it gave it for.
func (v *Vault) Place(ctx context.Context, name string, p store.Place) error {
	if _, err := store.SealedSecret(ctx, v.DB, v.Scope, name); err != nil {
		return ignoreMissing(err)
	}
	return store.PlaceSecret(ctx, v.DB, v.Scope, name, p)
}

func ignoreMissing(err error) error {
	if err == store.ErrNotFound {
		return nil
	}
	return err
}
