"""The public interface: plans, cells, queues, and what can be done with them on this machine.

The names stand in the `__init__.pyi` of the package above; `opening` is the way in, `plan_object` the
plan itself, `orchestration` what it takes to carry one out.
"""
