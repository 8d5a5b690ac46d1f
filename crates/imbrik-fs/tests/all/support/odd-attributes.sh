# Gives files of the odd tree attributes, where there is room for them. Needs root.
setfattr -n user.hive -v 07 hive/weight; setfattr -n user.note -v 'weights of May' hive/07
setfattr -n trusted.seal -v 0xdeadbeef hive/weight
setfattr -n user.long -v $(head -c 700 /dev/zero | tr '\0' q) hive/brood.wav
setfattr -n security.capability -v 0x0100000200040000000000000000000000000000 hive/one
setfattr -n system.posix_acl_access -v 0x0200000001000600ffffffff020006007011010004000400ffffffff10000600ffffffff20000400ffffffff hive/tail
setfattr -n system.posix_acl_default -v 0x0200000001000700ffffffff04000500ffffffff08000500e903000010000500ffffffff20000500ffffffff hive/07
