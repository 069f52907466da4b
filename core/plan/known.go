package plan

import (
	"fmt"
	"time"
)

// doubt adds a check that warns of what is known against the content of the source.
func (p *maker) doubt(name, message string) {
	p.add(Warns, name, message)
	p.Doubts = append(p.Doubts, message)
}

// checkKnown: what was known of the source before: by its tag, its checksums, and what lies in it.
func (p *maker) checkKnown() {
	s := p.facts.Source
	for _, w := range s.Inside {
		p.doubt("inside", capital(w)+".")
	}
	if s.Arriving {
		p.add(Blocks, Arriving, "The disk is being uploaded: send the rest of it, and end the upload.")
	}
	reads := p.Disk.Request.Kind != Prove
	for _, lack := range s.Lacks {
		if reads && !p.Disk.Request.AsItIs {
			p.add(
				Blocks,
				Incomplete,
				fmt.Sprintf("The disk is not whole: %s. Fetch what is missing, or take what is there as it is now.", lack),
				takeIt(),
			)
			continue
		}
		p.doubt(Incomplete, fmt.Sprintf("The disk is not whole: %s.", lack))
	}
}

// takeIt offers to go on where a source is not what was known of it.
func takeIt() Remedy { return remedy("Take it as it is now", map[string]any{"as_it_is": true}) }

// checkTag: what the tag beside the source means for the job.
func (p *maker) checkTag() {
	t := p.facts.Source.Tag
	switch {
	case t == nil || p.Disk.Request.Source.Snapshot != "":
		return
	case !p.Disk.Request.TakesAll():
		p.add(Informs, "tag", fmt.Sprintf("The tag %s is of the whole disk: nothing is compared with it.", t.Name))
		return
	case p.Renames:
		if t.Older {
			p.add(
				Informs,
				"tag",
				fmt.Sprintf("The tag %s is older than the files of the disk: it goes along as it is, and is held as it was.", t.Name),
			)
		}
	case t.Problem != nil:
		p.doubt("tag", fmt.Sprintf("The tag %s beside the source cannot be used, so that nothing is compared with it: %v.", t.Name, t.Problem))
		return
	case p.Disk.Request.AsItIs:
		p.add(Warns, "tag", fmt.Sprintf("What differs from the tag %s does not stop the job: the source is taken as it is now.", t.Name),
			remedy("Stop where it differs", map[string]any{"as_it_is": nil}))
	case t.Older:
		p.add(
			Informs,
			"tag",
			fmt.Sprintf(
				"The tag %s, made at %s, is older than the files of the disk, as after a machine ran: what differs from it is told.",
				t.Name,
				Clock(t.Made),
			),
		)
	default:
		p.add(
			Informs,
			"tag",
			fmt.Sprintf("The tag %s tells what the disk was at %s: where something differs from that, the job stops.", t.Name, Clock(t.Made)),
			takeIt(),
		)
	}
	for _, d := range t.Doubts {
		p.doubt("tag", "Its tag says: "+d)
	}
}

// Clock writes a time for people.
func Clock(t time.Time) string { return t.Local().Format("2006-01-02 15:04 MST") }
