"""Carrying a plan out: tasks, the ledger, workers, files landing where the plan says.

Read in this order: `tasks` (what is to be done) and `fingerprints`, `remaining` (what of it is left),
`schedule` and `membership` (which begins next), `workshop` (how one is done: `embedded_renderer` or
`command_renderer` draws, `file_writing` writes files), `backends` (by whom; `local_backends` on this
machine, each `worker` a process), `events` (what happens), `coordinator` (the run itself, with `budgets`
and `steering`), `run_record` (what it writes down), `ledger` (where: `ledger_file` opens and mends it),
`status` and `estimates` (what is read from the ledger), `notifications` (who is told).

Names stand in `__init__.pyi` and are loaded when they are asked for: reading a ledger needs no tracer.
"""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
