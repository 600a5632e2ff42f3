package shell

import (
	"strconv"

	"github.com/gin-gonic/gin"

	"mellowthump/app/store"
	"mellowthump/app/worker"
)

// ReferenceJob is the kind of the jobs that take a finished track in.
const ReferenceJob = "reference"

// VoiceJob is the kind of the jobs that take in a voice to leave room for.
const VoiceJob = "voice"

// SplitJob is the kind of the jobs that take a stem's file apart.
const SplitJob = "split"

// BounceJob is the kind of the jobs that take in a file of a song's bounce folder.
const BounceJob = "bounce"

// PrintJob is the kind of the jobs that print what goes out.
const PrintJob = "print"

// ApplyJob is the kind of the jobs that make what is ticked on the run sheet.
const ApplyJob = "apply"

// Coming is what of a kind of jobs is under way in a song, and what of it failed; false after an answer. A page asks for it before
// it loads the song: what ends in between is else neither under way nor in the song, and nobody looks again.
func (s *Server) Coming(c *gin.Context, kind string) (under, failed []store.Job, ok bool) {
	jobs, err := s.Store.Jobs(c.Request.Context(), c.Param("id"))
	if err != nil {
		s.FailWith(c, err)
		return nil, nil, false
	}
	for _, j := range s.Pool.Now(jobs) {
		switch {
		case j.Kind != kind:
		case j.Active():
			under = append(under, j)
		default:
			failed = append(failed, j)
		}
	}
	return under, failed, true
}

// Measured says of jobs that take files in what they do.
func Measured(under []store.Job) []string {
	var says []string
	for _, j := range under {
		if j.Message == worker.NoRoom {
			says = append(says, j.Name+": "+worker.NoRoom)
		} else {
			says = append(says, j.Name+" is being measured")
		}
	}
	return says
}

// CameIn answers with the whole stage where the song is another than the page shows; false where it is the same.
func (s *Server) CameIn(c *gin.Context, song *store.Song, stage string) bool {
	seen := c.Query("rev")
	if seen == "" || seen == strconv.FormatInt(song.Rev, 10) {
		return false
	}
	c.Header("HX-Retarget", "#sheet")
	c.Header("HX-Reswap", "innerHTML")
	s.Show(c, song, stage)
	return true
}
