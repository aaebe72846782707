"""The service: web API, access, worker processes, and the built console.

May import: store, core, wire. Views parse, call one function below, and answer.
"""
