"""What people look at through the service, and what is sent for them: whatever needs a secret, done by a process of its own.

Each is a function of the store and plain values, and answers with what the API does; `inspection_pool.InspectionPool` has it done.
"""
