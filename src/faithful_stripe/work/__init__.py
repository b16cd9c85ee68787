"""The technician's jobs as plain functions: a server through redfish/client in, values out, never text."""
