"""What a family of systems must be able to do, split by who asks.

A family from elsewhere implements `Family`, `Database` and `Rules`, and of the rest what its systems
have: what they do not have it leaves out (None), and `silent_on` of the family says why.
"""

from filigree.families.protocol.archives import Archive, ArchiveFamily
from filigree.families.protocol.database import Database, History, Policy, RecordSignatures
from filigree.families.protocol.family import Family
from filigree.families.protocol.records import Listing, PackageRecords, Records, RecordsOf, Report
from filigree.families.protocol.repositories import (
    ADDED,
    NO_COPIES,
    Chooser,
    Fetch,
    FetchedCopies,
    Judging,
    Kept,
    OfferRow,
    Offers,
    Reader,
    Remembered,
    Repositories,
    RootKey,
    Sources,
    found_anew,
)
from filigree.families.protocol.rules import Asked, Provided, Rules

__all__ = [
    "ADDED",
    "NO_COPIES",
    "Archive",
    "ArchiveFamily",
    "Asked",
    "Chooser",
    "Database",
    "Family",
    "Fetch",
    "FetchedCopies",
    "History",
    "Judging",
    "Kept",
    "Listing",
    "OfferRow",
    "Offers",
    "PackageRecords",
    "Policy",
    "Provided",
    "Reader",
    "RecordSignatures",
    "Records",
    "RecordsOf",
    "Remembered",
    "Report",
    "Repositories",
    "RootKey",
    "Rules",
    "Sources",
    "found_anew",
]  # fmt: skip
