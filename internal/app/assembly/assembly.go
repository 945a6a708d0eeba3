// Package assembly puts the activities together: which one is given what, and in
// which order they start and stop.
package assembly

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"runtime/debug"
	"strings"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/amend"
	"mossledger.example/moss/internal/app/approval"
	"mossledger.example/moss/internal/app/batches"
	"mossledger.example/moss/internal/app/charters"
	"mossledger.example/moss/internal/app/configuration"
	"mossledger.example/moss/internal/app/custody"
	"mossledger.example/moss/internal/app/diagnose"
	"mossledger.example/moss/internal/app/findings"
	"mossledger.example/moss/internal/app/freeze"
	"mossledger.example/moss/internal/app/inventory"
	"mossledger.example/moss/internal/app/labels"
	"mossledger.example/moss/internal/app/lives"
	"mossledger.example/moss/internal/app/managing"
	"mossledger.example/moss/internal/app/messages"
	"mossledger.example/moss/internal/app/people"
	"mossledger.example/moss/internal/app/picture"
	"mossledger.example/moss/internal/app/policies"
	"mossledger.example/moss/internal/app/prove"
	"mossledger.example/moss/internal/app/reachability"
	"mossledger.example/moss/internal/app/rights"
	"mossledger.example/moss/internal/app/risks"
	"mossledger.example/moss/internal/app/rotate"
	"mossledger.example/moss/internal/app/rotate/acts"
	"mossledger.example/moss/internal/app/rotate/looks"
	"mossledger.example/moss/internal/app/schedule"
	"mossledger.example/moss/internal/app/sealed"
	"mossledger.example/moss/internal/app/survey"
	"mossledger.example/moss/internal/app/taking"
	"mossledger.example/moss/internal/app/tandems"
	"mossledger.example/moss/internal/app/traces"
	"mossledger.example/moss/internal/app/unattended"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/tell"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store"
	"mossledger.example/moss/internal/store/database"
)

// Config is what an Application is made of.
type Config struct {
	Store       *store.Store
	Witness     database.Witness // of the ledger's head; nil for a file beside the database
	Master      []byte           // master key
	Random      io.Reader
	Now         func() time.Time
	Log         *slog.Logger
	Parallel    int           // visits at the same time; 0 for four a processor, at least eight
	Acts        int           // acts of one rotation at the same time; 0 for 32
	SurveyEvery time.Duration // all systems are surveyed so often; zero or less: never
	VerifyEvery time.Duration // everything in custody is verified so often; zero or less: never
	// Drill ends the process with SIGKILL after that many journal records of
	// rotations, to exercise recovery; 0 never.
	Drill int
	Kill  func() // what a drill calls
}

// Application is all activities. Make one with New, Start it, Stop it.
type Application struct {
	Store      *store.Store
	Base       *app.Base
	Sealed     *sealed.Keeper
	Approvals  *approval.Approvals
	Inventory  *inventory.Inventory
	Picture    *picture.Picture
	Findings   *findings.Engine
	Surveys    *survey.Surveys
	Custody    *custody.Custody
	Rotations  *rotate.Rotations
	Looks      *looks.Looks
	Diagnoses  *diagnose.Diagnoses
	People     *people.People
	Schedule   *schedule.Schedule
	Labels     *labels.Labels
	Policies   *policies.Policies
	Freeze     *freeze.Freeze
	Unattended *unattended.Unattended
	Batches    *batches.Batches
	Taking     *taking.Taking
	Tandems    *tandems.Tandems
	Texts      *configuration.Configuration
	Messages   *messages.Messages
	Rights     *rights.Rights
	Charters   *charters.Charters
	Risks      *risks.Risks
	Lives      *lives.Lives
	Managing   *managing.Managing
	Reach      *reachability.Reachability
	Traces     *traces.Traces
	Proofs     *prove.Proofs
	Amendments *amend.Amendments

	duties []schedule.Duty
}

// TuneMemory lets the heap grow to four times what is in use before it is
// cleaned up: surveys make much short-lived data, and what is in use is small.
func TuneMemory() { debug.SetGCPercent(300) }

// New makes an Application and opens the ledger.
func New(ctx context.Context, config Config) (*Application, error) {
	base, err := app.NewBase(app.Settings{Store: config.Store, Master: config.Master, Random: config.Random, Now: config.Now, Log: config.Log})
	if err != nil {
		return nil, err
	}
	if config.Witness == nil {
		config.Witness = config.Store.FolderWitness()
	}
	if err := config.Store.OpenLedger(ctx, base.Sealer, config.Witness); err != nil {
		return nil, err
	}
	a := &Application{Store: config.Store, Base: base}
	a.Sealed = sealed.New(base, a.Store)
	a.Approvals = approval.New(base, a.Store)
	a.People = people.New(base, a.Store, a.Approvals)
	a.Inventory = inventory.New(base, a.Store, a.Sealed, a.Approvals)
	a.Traces = traces.New(base, a.Store)
	a.Inventory.Traced(a.Traces.Of)
	a.Findings = findings.New(base, a.Store, a.Sealed)
	a.Picture = picture.New(base, a.Store, a.Findings)
	a.Surveys = survey.New(base, a.Store, a.Sealed, a.Inventory, a.Picture, config.Parallel)
	a.Custody = custody.New(base, a.Store, a.Sealed, a.Inventory, a.Picture, a.Surveys)
	hands := acts.New(base, a.Store, a.Sealed, a.Inventory, a.Custody)
	a.Looks = looks.New(base, a.Store, a.Sealed, hands)
	a.Policies = policies.New(base, a.Store, a.Approvals)
	a.Custody.NeedsTwo(a.needsTwo)
	if a.Freeze, err = freeze.New(ctx, base, a.Store); err != nil {
		return nil, err
	}
	a.Rotations = rotate.New(rotate.Needs{
		Base: base, Store: a.Store, Sealed: a.Sealed, Approvals: a.Approvals, Inventory: a.Inventory, Picture: a.Picture, Findings: a.Findings, Surveys: a.Surveys, Custody: a.Custody,
		Acts: hands, Looks: a.Looks, Policies: a.Policies, Freeze: a.Freeze, Usable: a.usable, AtOnce: config.Acts, Drill: config.Drill, Kill: config.Kill,
	})
	a.Unattended = unattended.New(base, a.Store, a.Policies, a.Rotations, a.Freeze)
	a.Batches = batches.New(batches.Needs{Base: base, Store: a.Store, Rotations: a.Rotations, Finder: a.Picture, Freeze: a.Freeze, Sealed: a.Sealed, Approvals: a.Approvals})
	a.Rights = rights.New(a.Store, a.Inventory)
	a.Reach = reachability.New(base, a.Store, a.Inventory)
	a.Charters = charters.New(base, a.Store, a.Rights, a.Inventory, a.Reach)
	a.Amendments = amend.New(base, a.Store, a.Inventory, a.Approvals, a.Surveys, a.Freeze)
	a.Proofs = prove.New(base, a.Store, a.Inventory, a.Sealed, a.Charters, a.Amendments)
	a.Risks = risks.New(base, a.Store, a.Rights)
	a.Lives = lives.New(a.Store, base.Now)
	a.Managing = managing.New(base, a.Store, a.Inventory, a.Amendments)
	a.Messages = messages.New(base, a.Store, tell.Send)
	a.Rotations.After(a.Unattended.Kick)
	a.Policies.Changed(a.Unattended.Kick)
	a.Diagnoses = diagnose.New(base, a.Store, a.Sealed, a.Inventory, a.Surveys, a.Custody, a.Rotations)
	a.Schedule = schedule.New(base, a.Store)
	a.Labels = labels.New(base, a.Store)
	a.Taking = taking.New(taking.Needs{
		Base: base, Store: a.Store, Custody: a.Custody, Limits: a.Labels.Limits, Frozen: a.Freeze.Frozen, Open: a.isOpen,
		TwoPeople: func(ctx context.Context, account records.AccountID) (string, error) {
			return a.needsTwo(ctx, access.Service(), account)
		},
	})
	a.Tandems = tandems.New(base, a.Store, a.Inventory, a.Custody)
	a.Texts = configuration.New(configuration.Needs{Base: base, Store: a.Store, Labels: a.Labels, Policies: a.Policies, Messages: a.Messages, Approvals: a.Approvals, Inventory: a.Inventory, People: a.People, Charters: a.Charters})
	a.Labels.After(func() {
		a.Taking.Kick()
		a.Charters.Kick()
	})
	a.Labels.ByHand(a.Charters.Kick)
	a.Labels.Ours(a.Custody.MayBeOurs)
	a.Surveys.After(func(ctx context.Context) {
		if _, err := a.Labels.Apply(ctx); err != nil && base.Context.Err() == nil {
			base.Log.Error("rules could not be applied after a survey", "error", err)
		}
		if _, err := a.Charters.Compare(ctx); err != nil && base.Context.Err() == nil {
			base.Log.Error("charters could not be compared after a survey", "error", err)
		}
		if err := a.Risks.Rank(ctx); err != nil && base.Context.Err() == nil {
			base.Log.Error("accounts could not be ranked after a survey", "error", err)
		}
		if err := a.Lives.Judge(ctx); err != nil && base.Context.Err() == nil {
			base.Log.Error("lives could not be judged after a survey", "error", err)
		}
	})
	a.duties = []schedule.Duty{{Name: "verify", Title: "verify everything in custody", Every: config.VerifyEvery, Do: a.verifyAll}, {Name: "survey", Title: "survey all systems", Every: config.SurveyEvery, Do: a.surveyAll}, {Name: "judge", Title: "judge anew what changes with time alone", Every: 24 * time.Hour, Do: a.judgeAll}, {Name: "look", Title: "look again at rotations that have ended", Every: lookEvery, Do: a.Looks.LookAgain}, {Name: "rotate", Title: "rotate what is due by policies", Every: lookEvery, Do: a.Unattended.Look}, {Name: "take", Title: "take into custody what rules say so of", Every: lookEvery, Do: a.Taking.Look}, {Name: "expire", Title: "end requests that nobody approved in time", Every: lookEvery, Do: a.Approvals.Expire}, {Name: "forget", Title: "forget old messages, and given values that nothing took", Every: 24 * time.Hour, Do: a.forget}, {Name: "erase", Title: "erase former values whose time is over", Every: 24 * time.Hour, Do: a.Custody.EraseFormer}}
	if err := a.Inventory.BindExisting(ctx); err != nil {
		return nil, fmt.Errorf("bind what is there to its systems: %w", err)
	}
	return a, nil
}

// Start takes up what an earlier run of the service left, and the regular duties.
func (a *Application) Start(ctx context.Context) error {
	if err := a.Approvals.Recover(ctx); err != nil {
		return fmt.Errorf("what was approved: %w", err)
	}
	if err := a.Surveys.Recover(ctx); err != nil {
		return fmt.Errorf("close interrupted surveys: %w", err)
	}
	if err := a.Rotations.Recover(ctx); err != nil {
		return err
	}
	if err := a.Unattended.Recover(ctx); err != nil {
		return fmt.Errorf("take up turns: %w", err)
	}
	if err := a.Batches.Recover(ctx); err != nil {
		return fmt.Errorf("take up batches: %w", err)
	}
	if err := a.Labels.Recover(ctx); err != nil {
		return fmt.Errorf("apply rules that were saved: %w", err)
	}
	if err := a.Proofs.Recover(ctx); err != nil {
		return fmt.Errorf("take up proofs: %w", err)
	}
	if err := a.Amendments.Recover(ctx); err != nil {
		return fmt.Errorf("take up amendments: %w", err)
	}
	if err := a.Traces.Recover(ctx); err != nil {
		return fmt.Errorf("take up traces: %w", err)
	}
	a.Messages.Start()
	a.Charters.Start()
	a.Custody.SettleLater()
	a.Schedule.Start(a.duties...)
	return nil
}

// isOpen says whether a window is open now.
func (a *Application) isOpen(v records.Window) (bool, error) {
	now, err := a.Policies.Now(v)
	return now.Open, err
}

// forget removes what is not kept longer.
// judgeAll judges everything by the day that it is: what ends comes nearer, and a declaration
// runs out, where no survey sees anything, too.
func (a *Application) judgeAll(ctx context.Context) (string, error) {
	systems, err := a.Store.AllSystems(ctx)
	if err != nil {
		return "", err
	}
	if err := errors.Join(a.Picture.Place(ctx, systems), a.Lives.Judge(ctx)); err != nil {
		return "", err
	}
	return fmt.Sprintf("%d systems judged", len(systems)), nil
}

func (a *Application) forget(ctx context.Context) (string, error) {
	words, err := a.Messages.Forget(ctx)
	return words, errors.Join(err, a.Batches.Forget(ctx), a.Traces.Forget(ctx), a.Proofs.Forget(ctx))
}

// usable asks whether hosts can use a managed account.
func (a *Application) usable(ctx context.Context, account records.Account, hosts []string) ([]connect.Checked, error) {
	return a.Managing.Usable(ctx, access.Service(), account, hosts)
}

// needsTwo says why one person is not enough to change an account's password, whatever is
// restarted; nothing while nobody else could approve.
func (a *Application) needsTwo(ctx context.Context, by access.Actor, account records.AccountID) (string, error) {
	_, why, err := a.Policies.Required(ctx, account, rotation.Plan{}, 0)
	if err != nil || len(why) == 0 {
		return "", err
	}
	if alone, err := a.Approvals.Alone(ctx, by.Name); err != nil || alone {
		return "", err
	}
	return strings.Join(why, "; "), nil
}

// lookEvery is how often it is seen whether a rotation is due to be looked at again.
const lookEvery = time.Minute

func (a *Application) verifyAll(ctx context.Context) (string, error) {
	accepted, refused, unclear, err := a.Custody.VerifyAll(ctx, access.Service())
	words := fmt.Sprintf("%d accepted", accepted)
	if refused+unclear > 0 {
		words += fmt.Sprintf(", %d refused, %d could not be asked", refused, unclear)
		a.Base.Log.Warn("regular verification", "refused", refused, "unclear", unclear)
	}
	return words, err
}

func (a *Application) surveyAll(ctx context.Context) (string, error) {
	id, err := a.Surveys.Start(ctx, access.Service(), nil)
	return fmt.Sprintf("began survey %d", id), err
}

// Stop ends all work at the next safe point and waits for it.
func (a *Application) Stop() { a.Base.Stop() }
