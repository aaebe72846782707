"""The command line, `reed`: argparse on top of the client library.

May import: client, wire; service and demo only to start them, and core.spec to read a folder of definitions.
"""
