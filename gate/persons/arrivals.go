package persons

import (
	"time"

	"gorm.io/gorm"

	"innergate/core/explain"
	"innergate/core/people"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/store"
)

// Arrived is what a sign-in makes of a person: the record, the link, and the groups that the provider gives and takes.
type Arrived struct {
	Held     *store.Person // nil for somebody new
	Name     string
	Kind     string // the person type
	Merged   people.Merged
	Linked   bool   // the link is there already
	FoundBy  string // in words, where somebody was found without a link
	Provider *partners.Provider
	// Subject is what the provider's link holds, Shown the same for people.
	Subject, Shown string
	Gained, Lost   []string
	By             string // what the journal says of the sign-in
}

// Settle writes what a sign-in makes of a person, and returns their ID.
func (a *Arrived) Settle(tx *gorm.DB, now time.Time) (string, error) {
	id, err := a.record(tx, now)
	if err != nil {
		return "", err
	}
	for _, slug := range a.Gained {
		if err := JoinGroup(tx, id, slug, a.Provider.ID, now); err != nil {
			return "", err
		}
	}
	for _, slug := range a.Lost {
		if err := LeaveGroup(tx, id, slug, a.Provider.ID); err != nil {
			return "", err
		}
	}
	return id, nil
}

func (a *Arrived) record(tx *gorm.DB, now time.Time) (string, error) {
	switch {
	case a.Held == nil:
		return a.create(tx, now)
	case a.Provider.Directory == nil:
		return a.Held.ID, a.refresh(tx, now)
	}
	return a.Held.ID, nil
}

// refresh writes what the sign-in changed of somebody known.
func (a *Arrived) refresh(tx *gorm.DB, now time.Time) error {
	if p := a.Held; len(a.Merged.Changed) > 0 || p.Type != a.Kind || p.Name != a.Name {
		fresh := *p
		fresh.Name = a.Name
		fresh.SetKeys(a.Merged.Profile)
		fresh.Type, fresh.UpdatedAt = a.Kind, now
		fresh.Profile, fresh.Sources = ground.MustJSON(a.Merged.Profile), ground.MustJSON(a.Merged.Sources)
		if err := Refreshed(tx, &fresh, p.Profile); err != nil {
			return err
		}
	}
	if a.Linked {
		return UsedLink(tx, a.Provider.ID, a.Subject, now)
	}
	// Another browser may have linked the same person to another subject of this provider a moment ago.
	made, err := LinkOnce(tx, a.Held.ID, a.Provider.ID, a.Subject, a.Shown, now)
	if err != nil {
		return err
	}
	if !made {
		holder, err := LinkedTo(tx, a.Provider.ID, a.Subject)
		if err != nil {
			return err
		}
		if holder != a.Held.ID {
			return explain.New(explain.MatchAlreadyLinked, explain.Fact("person", a.Name)).Of(a.Provider.Name)
		}
		return nil
	}
	return ground.Journal(
		tx,
		now,
		ground.Actor{Name: a.By},
		"linked",
		"person",
		a.Held.ID,
		a.Name,
		"",
		a.Provider.Name+", found by "+a.FoundBy,
	)
}

func (a *Arrived) create(tx *gorm.DB, now time.Time) (string, error) {
	p := store.Person{
		ID:        store.NewID(),
		Name:      a.Name,
		Active:    true,
		Type:      a.Kind,
		Profile:   ground.MustJSON(a.Merged.Profile),
		Sources:   ground.MustJSON(a.Merged.Sources),
		CreatedAt: now,
		UpdatedAt: now,
	}
	p.SetKeys(a.Merged.Profile)
	// Two first sign-ins at once: the second finds the first one's link.
	made, err := LinkOnce(tx, p.ID, a.Provider.ID, a.Subject, a.Shown, now)
	if err != nil {
		return "", err
	}
	if !made {
		return LinkedTo(tx, a.Provider.ID, a.Subject)
	}
	if err := Insert(tx, &p); err != nil {
		return "", err
	}
	if admit := a.Provider.Admit; admit != nil {
		for _, slug := range admit.Groups {
			if err := JoinGroup(tx, p.ID, slug, people.ByHand, now); err != nil {
				return "", err
			}
		}
	}
	return p.ID, nil
}
