# Makes, in this folder, a tree with everything that an ext volume can have. Needs root.
mkdir -p hive/07/empty crowd sticky
i=0; while [ $i -lt 1500 ]; do echo $i > crowd/a-name-of-some-length-$i; i=$((i+1)); done
echo 23.5 > hive/weight; printf x > hive/one; : > hive/none
head -c 150 /dev/urandom > hive/small; head -c 3000000 /dev/urandom > hive/brood.wav
ln hive/weight hive/07/weight-again; ln -s ../weight hive/07/link
ln -s $(printf 'far/%.0s' $(seq 60))away hive/far
truncate -s 5M hive/holes; printf end >> hive/holes
dd if=/dev/urandom of=hive/holes bs=1k count=3 seek=2000 conv=notrunc 2>/dev/null
dd if=/dev/urandom of=hive/tail bs=1000 count=1 seek=77 2>/dev/null
mkfifo hive/pipe; mknod hive/old c 1 3; mknod hive/new b 259 70000; mknod hive/zero c 0 0
chmod 4755 hive/one; chmod 1777 sticky; chown 100000:70001 hive/small
touch -d '1960-02-03 04:05:06.5' hive/none; touch -d '2040-01-01 00:00:00.123456789' hive/one
touch -d '2300-01-01' hive/small 2>/dev/null; touch -h -d '1999-12-31 23:59:59' hive/07/link
printf a > 'hive/with a space'; printf b > 'hive/new
line'; printf c > hive/$(printf 'no\377utf')
