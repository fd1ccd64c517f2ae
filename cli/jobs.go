package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"proudsieve/client"
	"proudsieve/service/records"
)

func jobCommand() *cli.Command {
	return group("job", "what runs in the background",
		verb("list", "jobs, newest first", "",
			[]cli.Flag{&cli.BoolFlag{Name: "running", Usage: "only those that have not ended"}},
			func(ctx context.Context, s *session, _ []string) error {
				page, err := s.ListJobs(ctx, &client.ListJobsParams{Running: s.command.Bool("running")})
				return show(s, page, err, func(page *records.Page[records.Job]) {
					g := newGrid(">job", "kind", "dataset", "state", ">attempt", ">rows read", "asked for by", "at",
						"error")
					for _, j := range page.Items {
						g.add(fmt.Sprint(j.ID), j.Kind, j.Dataset, j.State, fmt.Sprint(j.Attempt), count(j.RowsRead),
							j.CreatedBy, when(j.CreatedAt), j.Error)
					}
					s.grid(g, "There are no jobs.")
				})
			}),
		verb("follow", "wait for a job to end", "JOB", nil, func(ctx context.Context, s *session, args []string) error {
			id, err := number(args[0], "a job")
			if err != nil {
				return err
			}
			job, err := s.Follow(ctx, id, s.progress())
			return show(s, job, err, func(j *records.Job) { s.line("Job %d is done.", j.ID) })
		}),
		verb("stop", "stop a job; nothing of it is kept", "JOB", nil,
			func(ctx context.Context, s *session, args []string) error {
				id, err := idOf(args[0])
				if err != nil {
					return err
				}
				job, err := s.StopJob(ctx, id)
				return show(s, job, err, func(j *records.Job) { s.line("Job %d is stopped.", j.ID) })
			}),
	)
}
