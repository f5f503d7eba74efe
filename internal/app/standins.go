package app

import (
	"context"

	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/standin"
	"hollowreed/internal/store"
	"hollowreed/internal/vault"
)

// settle keeps how the stand-ins are reached as the settings of the demo's connections. Their ports are
// others at each start.
func (f *flags) settle(ctx context.Context, running []*standin.Running) error {
	for _, r := range running {
		for id, reach := range r.Reach {
			chosen, err := f.sealed(ctx, id, reach)
			if err != nil {
				return err
			}
			s := store.Setting{Connection: id, Kind: reach.Kind, Chosen: chosen, Page: r.Page}
			if err := store.SaveSetting(ctx, f.vault.DB, Demo, s, -1, DemoPerson.ID); err != nil {
				return err
			}
		}
	}
	return nil
}

// sealed puts the secrets among the values into the vault and their names in their places.
func (f *flags) sealed(ctx context.Context, id string, reach standin.Reach) (system.Values, error) {
	chosen := system.Values{}
	for _, set := range connection.KindOf(reach.Kind).Settings {
		v := reach.Values[set.Name]
		if v == "" {
			continue
		}
		if set.Type == setting.Secret {
			as := store.Secret{Name: id + " " + set.Name, Type: set.Of, About: "of the stand-in", ChangedBy: DemoPerson.ID}
			demo := f.vault.Of(Demo)
			if err := demo.Save(ctx, as, v); err != nil {
				return nil, err
			}
			place := store.Place{Connection: id, Host: vault.HostOf(connection.KindOf(reach.Kind), reach.Values)}
			if err := demo.Place(ctx, as.Name, place); err != nil {
				return nil, err
			}
			v = as.Name
		}
		chosen[set.Name] = v
	}
	return chosen, nil
}
