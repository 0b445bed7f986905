"""The tags of a package header: number, name, and what each holds.

Follows the tags chapter of the format's manual. `MEANINGS` is the one table; the constants are for
the readers. In the signature header the numbers from 1000 on mean other things: `SIGNATURE_TAGS`.
"""

from typing import Final, NamedTuple


class Tag(NamedTuple):
    """A tag's name in the format, and what it holds, for people."""

    name: str
    meaning: str


IMMUTABLE: Final = 63
SIGNATURES: Final = 62
LONG_SIG_SIZE: Final = 270
KEPT_SIGNATURE_RSA: Final = 259
KEPT_SIGNATURE_DSA: Final = 262
SIGNATURE_DSA: Final = 267
SIGNATURE_RSA: Final = 268
HEADER_SHA1: Final = 269
HEADER_SHA256: Final = 273
SIGNATURES_BASE64: Final = 278
HEADER_SHA3: Final = 279
OLD_SIZE: Final = 1000
OLD_SIGNATURE_RSA: Final = 1002
WHOLE_MD5: Final = 1004
OLD_SIGNATURE_DSA: Final = 1005
NAME: Final = 1000
VERSION: Final = 1001
RELEASE: Final = 1002
EPOCH: Final = 1003
SUMMARY: Final = 1004
DESCRIPTION: Final = 1005
BUILD_TIME: Final = 1006
BUILD_HOST: Final = 1007
INSTALL_TIME: Final = 1008
SIZE: Final = 1009
VENDOR: Final = 1011
LICENSE: Final = 1014
PACKAGER: Final = 1015
GROUP: Final = 1016
URL: Final = 1020
OS: Final = 1021
ARCHITECTURE: Final = 1022
OLD_FILE_NAMES: Final = 1027
FILE_SIZES: Final = 1028
FILE_STATES: Final = 1029
FILE_MODES: Final = 1030
FILE_DEVICE_NUMBERS: Final = 1033
FILE_TIMES: Final = 1034
FILE_DIGESTS: Final = 1035
FILE_LINKS: Final = 1036
FILE_FLAGS: Final = 1037
FILE_OWNERS: Final = 1039
FILE_GROUPS: Final = 1040
SOURCE_PACKAGE: Final = 1044
FILE_VERIFY_FLAGS: Final = 1045
FILE_DEVICES: Final = 1095
FILE_INODES: Final = 1096
SOURCE_MARK: Final = 1106
DIRECTORY_INDEXES: Final = 1116
BASE_NAMES: Final = 1117
DIRECTORY_NAMES: Final = 1118
PAYLOAD_FORMAT: Final = 1124
PAYLOAD_COMPRESSOR: Final = 1125
FILE_COLOURS: Final = 1140
LONG_FILE_SIZES: Final = 5008
LONG_SIZE: Final = 5009
FILE_CAPABILITIES: Final = 5010
FILE_DIGEST_ALGORITHM: Final = 5011
PAYLOAD_DIGESTS: Final = 5092
PAYLOAD_DIGEST_ALGORITHM: Final = 5093

RELATIONS: Final = {
    "provides": (1047, 1112, 1113),
    "requires": (1049, 1048, 1050),
    "conflicts": (1054, 1053, 1055),
    "obsoletes": (1090, 1114, 1115),
    "recommends": (5046, 5048, 5047),
    "suggests": (5049, 5051, 5050),
    "supplements": (5052, 5054, 5053),
    "enhances": (5055, 5057, 5056),
    "suggests of long ago": (1156, 1158, 1157),
    "enhances of long ago": (1159, 1161, 1160),
}
"""The tags of names, flags and versions, by relation."""

_TABLE = """
61 HeaderImage the whole header, in packages of long ago
62 HeaderSignatures the part of the signature header that was signed with
63 HeaderImmutable the part of the header that signatures and digests cover
100 HeaderI18nTable the languages of the translated texts
257 SigSize bytes of header and payload
258 SigLeMD5 a digest of long ago
259 SigPGP signature of header and payload, RSA
261 SigMD5 MD5 of header and payload
262 SigGPG signature of header and payload, DSA
266 PubKeys public keys that came with the package
267 DSAHeader signature of the header, DSA or EdDSA
268 RSAHeader signature of the header, RSA
269 SHA1Header SHA-1 of the header
270 LongSigSize bytes of header and payload, where they are many
271 LongArchiveSize bytes of the payload unpacked, where they are many
273 SHA256Header SHA-256 of the header
274 FileSignatures signatures of the files
275 FileSignatureLength bytes of a file's signature
276 VeritySignatures signatures of the files' hash trees
277 VeritySignatureAlgo algorithm of the hash trees
278 OpenPGP signatures of the header, in base64
279 SHA3_256Header SHA3-256 of the header
1000 Name the package's name
1001 Version its version
1002 Release its release
1003 Epoch its epoch, which goes before the version
1004 Summary what it is, in a line
1005 Description what it is, at length
1006 BuildTime when it was built
1007 BuildHost where it was built
1008 InstallTime when it was installed
1009 Size bytes of its files
1010 Distribution the distribution it belongs to
1011 Vendor who offers it
1012 Gif a picture, in packages of long ago
1013 Xpm a picture, in packages of long ago
1014 License under which terms it comes
1015 Packager who made the package
1016 Group the group it belongs to
1018 Source source files
1019 Patch patches
1020 URL where to read more
1021 OS the operating system
1022 Arch the architecture
1023 PreIn script before installation
1024 PostIn script after installation
1025 PreUn script before removal
1026 PostUn script after removal
1027 OldFileNames whole paths, in packages of long ago
1028 FileSizes bytes of each file
1029 FileStates whether each file was installed
1030 FileModes kind and mode of each file
1033 FileRDevs device numbers of each file
1034 FileMTimes time of change of each file
1035 FileDigests digest of each file
1036 FileLinkTos where each link points
1037 FileFlags what each file is for
1039 FileUserName owner of each file
1040 FileGroupName group of each file
1043 Icon a picture
1044 SourceRPM the source package it was built from
1045 FileVerifyFlags which aspects of each file the packager wants checked
1046 ArchiveSize bytes of the payload unpacked
1047 ProvideName names it answers to
1048 RequireFlags how the needed versions compare
1049 RequireName what it requires
1050 RequireVersion the needed versions
1053 ConflictFlags how the conflicting versions compare
1054 ConflictName what it cannot be with
1055 ConflictVersion the conflicting versions
1064 RPMVersion the version of the program that built it
1065 TriggerScripts scripts that run for other packages
1066 TriggerName packages whose coming or going runs a script
1067 TriggerVersion their versions
1068 TriggerFlags how those compare
1069 TriggerIndex which script is meant
1079 VerifyScript script that checks the installed package
1080 ChangelogTime times of the changes
1081 ChangelogName authors of the changes
1082 ChangelogText texts of the changes
1085 PreInProg what runs the script before installation
1086 PostInProg what runs the script after installation
1087 PreUnProg what runs the script before removal
1088 PostUnProg what runs the script after removal
1090 ObsoleteName what it takes the place of
1091 VerifyScriptProg what runs the checking script
1092 TriggerScriptProg what runs the trigger scripts
1094 Cookie a mark of the build
1095 FileDevices device each file was on
1096 FileInodes number of each file, which tells hard links
1097 FileLangs language of each file
1098 Prefixes directories that may be moved
1099 InstPrefixes where they were moved to
1106 SourcePackage whether it is a source package
1112 ProvideFlags how the provided versions compare
1113 ProvideVersion the provided versions
1114 ObsoleteFlags how the versions it replaces compare
1115 ObsoleteVersion the versions it replaces
1116 DirIndexes directory of each file, as a number
1117 BaseNames last part of each path
1118 DirNames the directories
1119 OrigDirIndexes directories before they were moved
1120 OrigBaseNames last parts before they were moved
1121 OrigDirNames directories before they were moved
1122 OptFlags options of the compiler
1123 DistURL where the distribution built it
1124 PayloadFormat format of the payload
1125 PayloadCompressor compression of the payload
1126 PayloadFlags level of compression
1127 InstallColor which kinds of machine code were installed
1128 InstallTID transaction that installed it
1129 RemoveTID transaction that removed it
1131 RHNPlatform platform, of long ago
1132 Platform the platform it was built for
1140 FileColors kind of machine code of each file
1141 FileClass class of each file, as a number
1142 ClassDict the classes
1143 FileDependsX first need of each file
1144 FileDependsN number of needs of each file
1145 DependsDict needs of the files
1146 SourcePkgID digest of the source package
1151 PreTrans script before the whole transaction
1152 PostTrans script after the whole transaction
1153 PreTransProg what runs the script before the transaction
1154 PostTransProg what runs the script after the transaction
1155 DistTag mark of the distribution
1156 OldSuggestsName what it suggests, in packages of long ago
1157 OldSuggestsVersion the suggested versions, in packages of long ago
1158 OldSuggestsFlags how those compare, in packages of long ago
1159 OldEnhancesName what it enhances, in packages of long ago
1160 OldEnhancesVersion the enhanced versions, in packages of long ago
1161 OldEnhancesFlags how those compare, in packages of long ago
1195 DBInstance number in the database
5008 LongFileSizes bytes of each file, where they are many
5009 LongSize bytes of its files, where they are many
5010 FileCaps capabilities of each file
5011 FileDigestAlgo algorithm of the files' digests
5012 BugURL where to report what is wrong
5017 PreInFlags flags of the script before installation
5018 PostInFlags flags of the script after installation
5019 PreUnFlags flags of the script before removal
5020 PostUnFlags flags of the script after removal
5034 VCS where its source is kept
5035 OrderName packages it is to be ordered with
5036 OrderVersion their versions
5037 OrderFlags how those compare
5046 RecommendName what it recommends
5047 RecommendVersion the recommended versions
5048 RecommendFlags how those compare
5049 SuggestName what it suggests
5050 SuggestVersion the suggested versions
5051 SuggestFlags how those compare
5052 SupplementName what it supplements
5053 SupplementVersion the supplemented versions
5054 SupplementFlags how those compare
5055 EnhanceName what it enhances
5056 EnhanceVersion the enhanced versions
5057 EnhanceFlags how those compare
5062 Encoding encoding of its texts
5066 FileTriggerScripts scripts that run for paths
5069 FileTriggerName paths that run a script
5076 TransFileTriggerScripts scripts that run for paths, once a transaction
5079 TransFileTriggerName paths that run a script, once a transaction
5092 PayloadSHA256 digest of the payload, compressed
5093 PayloadSHA256Algo algorithm of that digest
5096 ModularityLabel the module it belongs to
5097 PayloadSHA256Alt digest of the payload, uncompressed
5098 ArchSuffix end of the file name
5099 Spec the recipe it was built with
5100 TranslationURL where to translate it
5101 UpstreamReleases where new versions appear
"""
_SIGNATURE_TABLE = """
1000 Size bytes of header and payload
1002 PGP signature of header and payload, RSA
1004 MD5 MD5 of header and payload
1005 GPG signature of header and payload, DSA
1007 PayloadSize bytes of the payload unpacked
1008 ReservedSpace room for signatures to come
"""


def _table(text: str) -> dict[int, Tag]:
    found = {}
    for row in text.strip().splitlines():
        number, name, meaning = row.split(" ", 2)
        found[int(number)] = Tag(name, meaning)
    return found


TAGS: dict[int, Tag] = _table(_TABLE)
SIGNATURE_TAGS: dict[int, Tag] = TAGS | _table(_SIGNATURE_TABLE)


def tag_name(number: int, signing: bool = False) -> str:
    """The name of a tag; one that is not known is told by its number."""
    tag = (SIGNATURE_TAGS if signing else TAGS).get(number)
    return tag.name if tag else f"Tag{number}"
