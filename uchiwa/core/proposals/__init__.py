"""Corrections: each kind a package of policy, evidence, proposal and explanation."""
