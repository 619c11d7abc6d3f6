"""First steps: setting up a site, and the made-up one."""
