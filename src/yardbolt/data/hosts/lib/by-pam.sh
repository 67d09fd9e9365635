by_pam() (

#@ lib/ssh-server

[ "$kind" = openssh ] && sshd_ -T 2>/dev/null | grep -qix 'usepam no' || exit 0

#@ lib/ssh-set

change UsePAM yes
)
