"""The folder of a workspace: its configuration, systems, devices, groups, secrets and locks."""
