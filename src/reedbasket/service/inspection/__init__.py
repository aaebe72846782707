"""Whatever needs a secret outside a run, done in a separate process: inspections for people, and notifications.

Each is a function of the store and plain values, and returns what the API answers. `inspection_pool.InspectionPool` executes it.
"""
