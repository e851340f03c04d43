package target

import (
	"context"
	"fmt"
	"strings"

	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
)

// What the folder's own configuration could do is decided before anything reaches the host:
// programs run from now on, since the plan names them; what leads elsewhere is put aside, unless
// the person says that it is trusted.

// apart gives what is to be trusted by the plan, and what is to be put aside.
func (w *Work) apart() (trusted, aside []project.Danger) {
	for _, x := range w.Folder.Dangers {
		if x.Leads && !w.Options.Trust {
			aside = append(aside, x)
		} else {
			trusted = append(trusted, x)
		}
	}
	return trusted, aside
}

// StepsOfTrust are the steps by which that is decided; none where there is nothing strange.
func (w *Work) StepsOfTrust() []desk.Step {
	var steps []desk.Step
	trusted, aside := w.apart()
	if len(aside) > 0 {
		steps = append(steps, w.stepPutAside(aside))
	}
	if len(trusted) > 0 {
		steps = append(steps, w.stepTrust(trusted))
	}
	return steps
}

// named lists what is meant, at most four.
func named(all []project.Danger) string {
	var out []string
	for i, x := range all {
		if i == 4 {
			out = append(out, fmt.Sprintf("and %d more", len(all)-i))
			break
		}
		if x.Hook() {
			out = append(out, text.Visible(x.Where))
		} else {
			out = append(out, fmt.Sprintf("%s = %s (%s)", text.Visible(x.What), text.Excerpt(x.Value, 60), text.Visible(x.Where)))
		}
	}
	return strings.Join(out, ", ")
}

// stepPutAside puts what leads elsewhere aside.
func (w *Work) stepPutAside(which []project.Danger) desk.Step {
	w.Notes = append(w.Notes, "What is put aside would lead traffic, files or your token elsewhere. It comes back with detach. To use it as it is, add --trust.")
	return w.barePutAside().Planned(plan.Here, "Put aside from git's configuration here: "+named(which),
		nil,
		func(ctx context.Context) error { return w.Folder.PutAside(ctx, w.Desk) })
}

// stepTrust trusts what the plan names, as it is now.
func (w *Work) stepTrust(which []project.Danger) desk.Step {
	what := "Let git run what its configuration here names: "
	for _, x := range which {
		if x.Leads {
			what = "Trust what git's configuration here names: "
		}
	}
	return w.bareTrust().Planned(plan.Here, what+named(which),
		nil,
		func(ctx context.Context) error { return w.Folder.Trusts(ctx, w.Desk, which) })
}
