"""stub to be written."""

from scopion.operations.changes import Compared
from scopion.operations.site import Site


def compared_with(site: Site, path: str) -> Compared:
    raise NotImplementedError
