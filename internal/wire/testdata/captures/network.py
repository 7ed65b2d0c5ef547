#!/usr/bin/env python3
"""Real logins through real networks: a device, a router and servers in three network namespaces. The servers are
`mellowgate serve`; the client and its octets are this script's (make.py); filters, translation and resets are those of
the kernel; tcpdump listens at both ends. Then why is asked with each kind of evidence, and what it gets wrong is printed.

    MELLOWGATE=path/to/mellowgate python3 network.py FOLDER        as root, with ip, nft and tcpdump
"""
import os, sys, subprocess, time, json, signal, shutil
MAKE = os.path.join(os.path.dirname(os.path.abspath(__file__)), "make.py")
exec(open(MAKE).read().split("CASES = {}")[0].replace("os.path.abspath(__file__)", "MAKE"))
MG, WORK = os.path.abspath(os.environ["MELLOWGATE"]), os.path.abspath(sys.argv[1])
OUT = WORK + "/cases"; shutil.rmtree(OUT, ignore_errors=True); os.makedirs(OUT)
def sh(c,check=True): return subprocess.run(c,shell=True,check=check,capture_output=True,text=True)
for n in ('mgd','mgr','mgs'): sh('ip netns del '+n,False)
for n in ('mgd','mgr','mgs'): sh('ip netns add '+n); sh('ip netns exec %s ip link set lo up'%n)
sh('ip link add d0 netns mgd type veth peer name r0 netns mgr'); sh('ip link add s0 netns mgs type veth peer name r1 netns mgr')
sh('ip netns exec mgd ip addr add 203.0.113.21/24 dev d0'); sh('ip netns exec mgd ip addr add 203.0.113.11/24 dev d0'); sh('ip netns exec mgd ip addr add 203.0.113.99/24 dev d0'); sh('ip netns exec mgd ip link set d0 up')
sh('ip netns exec mgr ip addr add 203.0.113.1/24 dev r0'); sh('ip netns exec mgr ip addr add 198.51.100.1/24 dev r1'); sh('ip netns exec mgr ip link set r0 up'); sh('ip netns exec mgr ip link set r1 up')
for a in (31,32,41,42): sh('ip netns exec mgs ip addr add 198.51.100.%d/24 dev s0'%a)
sh('ip netns exec mgs ip link set s0 up'); sh('ip netns exec mgd ip route add default via 203.0.113.1'); sh('ip netns exec mgs ip route add default via 198.51.100.1'); sh('ip netns exec mgr sysctl -w net.ipv4.ip_forward=1')
SITE=WORK+'/site'; os.makedirs(SITE,exist_ok=True)
h=sh("printf 'lantern-9' | %s keys hash -password-file -"%MG).stdout.strip().strip('"')
text=site().replace(HASH,h)
for s in ('bollard','cleat'): text=text.replace('name: %s, protocol: tacacs,'%s,'name: %s, protocol: tacacs, run: true, port: 49,'%s)
for s in ('fairlead','hawser'): text=text.replace('name: %s, protocol: radius,'%s,'name: %s, protocol: radius, run: true,'%s)
text=text.replace('timeout: 5s','timeout: 2s').replace('timeout: 3s','timeout: 1s')
open(SITE+'/site.yaml','w').write(text); os.chmod(SITE+'/site.yaml',0o600)
# the client, in the namespace of the device: plain sockets, the script's own octets
CL=WORK+'/client.py'
open(CL,'w').write("MAKE = %r\nexec(open(MAKE).read().split('CASES = {}')[0].replace('os.path.abspath(__file__)', 'MAKE'))\n" % MAKE + r'''
import socket,sys,time,json,os
def radius(who,pw,key,srv,port=1812,tries=2,wait=1.0,src=MAST,make=None):
    q=make or Ask(who,key,os.urandom(1)[0],pw=pw,nas=src); s=socket.socket(socket.AF_INET,socket.SOCK_DGRAM); s.bind((src,0)); s.settimeout(wait)
    for _ in range(tries):
        try: s.sendto(q.b,(srv,port))
        except OSError as e: pass
        end=time.time()+wait
        while time.time()<end:
            s.settimeout(max(.01,end-time.time()))
            try: b,a=s.recvfrom(4096)
            except socket.timeout: break
            except OSError: continue
            if a[0]!=srv or b[1]!=q.id: continue
            if b[4:20]==hashlib.md5(b[:4]+q.auth+b[20:]+q.key.encode()).digest(): return b[0]
    return None
def rad(who,pw='lantern-9',key=KR,key2=KR2,src=MAST,record=True,**k):
    for srv,kk in ((FAI,key),(HAW,key2)):
        c=radius(who,pw,kk,srv,src=src,**k)
        if c is not None:
            if c==2 and record: radius(who,pw,kk,srv,1813,src=src,make=Rec(who,kk,os.urandom(1)[0]))
            return c
def read(s,n):
    b=b''
    while len(b)<n:
        x=s.recv(n-len(b))
        if not x: raise EOFError
        b+=x
    return b
def packet(s,key):
    h=read(s,12); kind,seq,sess,n=h[1],h[2],struct.unpack('!I',h[4:8])[0],struct.unpack('!I',h[8:])[0]
    return body(sess,key,h[0],seq,read(s,n))
def conn(srv,src):
    s=socket.socket(); s.bind((src,0)); s.settimeout(2); s.connect((srv,49)); return s
def tac(who,pw='lantern-9',keys=(KT,KT2),src=PIER,more=True,big=False):
    for srv,key in zip((BOL,CLE),keys):
        try:
            s=conn(srv,src); n=int.from_bytes(os.urandom(4),'big'); s.sendall(pkt(1,1,n,start(who),key)); r=packet(s,key)
            if r[0]==5: s.sendall(pkt(1,3,n,cont(pw),key)); r=packet(s,key)
            s.close()
            if r[0]==7: continue
            if r[0]!=1: return 'fail'
            if more:
                s=conn(srv,src); n=int.from_bytes(os.urandom(4),'big'); args=['service=shell','cmd=']+(['x*'+'y'*200]*7 if big else [])
                s.sendall(pkt(2,1,n,want(who,args),key)); packet(s,key); s.close()
                s=conn(srv,src); n=int.from_bytes(os.urandom(4),'big'); s.sendall(pkt(3,1,n,note(who,['task_id=3','service=shell']),key)); packet(s,key); s.close()
            return 'in'
        except (OSError,EOFError) as e: continue
eval(sys.argv[1])
''')
def nft(ns,rules): sh('ip netns exec %s nft flush ruleset'%ns,False); (rules and sh("ip netns exec %s nft '%s'"%(ns,rules)))
BASE='add table ip f; add chain ip f x { type filter hook forward priority 0; }; '
def run(name,first,about,do,setup='',where=None,before=None,stop=False,args=None,healthy=False):
    nft('mgr',setup); d=OUT+'/'+name; os.makedirs(d); st=d+'/st'
    env=dict(os.environ)
    serve=subprocess.Popen(['ip','netns','exec','mgs',MG,'serve','-state',st,SITE+'/site.yaml'],stdout=subprocess.DEVNULL,stderr=open(d+'/serve.err','w'))
    for _ in range(100):
        if 'ready' in open(d+'/serve.err').read(): break
        time.sleep(.05)
    if stop: serve.send_signal(signal.SIGTERM); serve.wait()
    dumps=[subprocess.Popen(['ip','netns','exec',ns,'tcpdump','-i',dev,'-U','-s','0','-w',d+'/'+f],stdout=subprocess.DEVNULL,stderr=subprocess.DEVNULL) for ns,dev,f in (('mgd','d0','near.pcap'),('mgs','s0','far.pcap'))]
    time.sleep(.6)
    if before: before()
    for c in ([do] if isinstance(do,str) else do): subprocess.run(['ip','netns','exec','mgd','python3',CL,c],timeout=60)
    time.sleep(.8)
    for p in dumps: p.send_signal(signal.SIGINT); p.wait()
    if not stop: serve.send_signal(signal.SIGTERM); serve.wait()
    shutil.copy(SITE+'/site.yaml',d+'/site.yaml')
    x={'first':first,'about':about}
    if where: x['where']=where
    json.dump(x,open(d+'/expect.json','w'))
H=['healthy']
run('r-well',{'*':H},'a login over RADIUS',"rad('liv.moen')")
run('t-well',{'*':H},'a login over TACACS+',"tac('liv.moen')")
run('t-lookout-well',{'*':H},'level 1 as designed',"tac('ola.berg')")
run('r-wrong-password',{'*':['wrong-password']},'a wrong password',"rad('liv.moen',pw='nothing')")
run('t-wrong-password',{'*':['wrong-password']},'a wrong password',"tac('liv.moen',pw='nothing')")
run('t-disabled',{'*':['disabled-or-expired']},'disabled',"tac('kari.lund')")
run('r-unknown',{'*':['unknown-person']},'a slip',"rad('liv.meon')")
run('t-local',{'*':['local-while-server-answers']},'local account',"tac('harbour')")
run('r-drop',{'near':['unreachable'],'far':['healthy','not-known','nothing'],'both':['unreachable'],'events':['nothing','not-known'],'all':['unreachable']},'a filter drops what goes to 1812',"rad('liv.moen')",BASE+'add rule ip f x udp dport 1812 drop')
run('r-drop-back',{'near':['unreachable'],'far':['return-path'],'both':['return-path'],'events':['healthy','return-path','not-known'],'all':['return-path']},'a filter drops the answers',"rad('liv.moen')",BASE+'add rule ip f x udp sport 1812 drop')
run('r-prohibited',{'near':['unreachable'],'both':['unreachable'],'all':['unreachable']},'a router says: administratively prohibited',"rad('liv.moen')",BASE+'add rule ip f x udp dport 1812 reject with icmp type admin-prohibited')
run('t-drop',{'near':['unreachable'],'both':['unreachable'],'all':['unreachable']},'SYN dropped',"tac('liv.moen')",BASE+'add rule ip f x tcp dport 49 drop')
run('t-reset-by-filter',{'near':['server-off','unreachable'],'both':['server-off','unreachable']},'a filter resets SYN',"tac('liv.moen')",BASE+'add rule ip f x tcp dport 49 reject with tcp reset')
run('r-records-drop',{'near':['accounting-port'],'all':['accounting-port'],'both':['accounting-port']},'1813 dropped',"rad('liv.moen')",BASE+'add rule ip f x udp dport 1813 drop')
run('r-key',{'near':['key-differs'],'far':['key-differs'],'events':['key-differs'],'all':['key-differs'],'both':['key-differs']},'the device has a key with a letter in another case',"rad('liv.moen',key='Marble-key-2Lp6tY1q',key2='slate-key-8Zf3jR5K')",where='mast-ap')
run('t-key',{'near':['key-differs'],'far':['key-differs'],'events':['key-differs'],'all':['key-differs'],'both':['key-differs']},'another key',"tac('liv.moen',keys=('granite-key-5Hn8vB3','basalt-key-9Wd4mC7s '))",where='pier-sw')
run('r-nat',{'near':['unreachable','client-unknown','key-differs'],'far':['client-unknown','address-translated'],'events':['client-unknown'],'all':['client-unknown','address-translated'],'both':['client-unknown','address-translated']},'a translator',"rad('liv.moen')",'add table ip n; add chain ip n p { type nat hook postrouting priority 100; }; add rule ip n p oifname r1 masquerade')
run('t-nat',{'near':['client-unknown','unreachable'],'events':['client-unknown'],'all':['client-unknown'],'far':['client-unknown']},'a translator',"tac('liv.moen')",'add table ip n; add chain ip n p { type nat hook postrouting priority 100; }; add rule ip n p oifname r1 masquerade')
run('r-stopped',{'near':['server-off'],'far':['server-off'],'both':['server-off']},'the service does not run',"rad('liv.moen')",stop=True)
run('t-stopped',{'near':['server-off'],'far':['server-off'],'both':['server-off']},'the service does not run',"tac('liv.moen')",stop=True)
run('t-mtu',{'near':['mtu','unreachable'],'both':['mtu','unreachable']},'packets over 600 octets are dropped without a word',"tac('liv.moen',big=True)",BASE+'add rule ip f x ip length > 600 drop')
run('r-wrong-port',{'near':['wrong-port'],'far':['wrong-port'],'both':['wrong-port']},'asks 1645',["[radius('liv.moen','lantern-9',KR,FAI,1645), radius('liv.moen','lantern-9',KR2,HAW,1645)]"])
run('r-first-down-second-answers',{'near':['unreachable'],'both':['unreachable']},'fairlead filtered, hawser lets in',"rad('liv.moen')",BASE+'add rule ip f x ip daddr 198.51.100.41 drop',where='fairlead')
run('r-half-lost',{'near':H,'far':H,'both':H,'events':H},'every second question is lost',"rad('liv.moen')",BASE+'add rule ip f x udp dport 1812 numgen inc mod 2 == 0 drop')
run('r-stranger-beside',{'near':H,'events':H+['nothing']},'a stranger asks; the device is well',["rad('liv.moen')","radius('root','x','guess',FAI,src='203.0.113.99')"])
for n in ('mgd','mgr','mgs'): sh('ip netns del '+n,False)

ANY={'near':['-capture','near.pcap','site.yaml'],'far':['-capture','far.pcap','site.yaml'],'both':['-capture','near.pcap,far.pcap','site.yaml'],'events':['-events','st/events.jsonl','site.yaml'],'all':['-capture','near.pcap','-events','st/events.jsonl','site.yaml']}
tot={}
for n in sorted(os.listdir(OUT)):
    x=json.load(open(f'{OUT}/{n}/expect.json'))
    for k,a in ANY.items():
        want=x['first'].get(k) or x['first'].get('*')
        if not want: continue
        if 'events' in a[0]+' '.join(a) and not os.path.exists(f'{OUT}/{n}/st/events.jsonl'): continue
        p=subprocess.run([MG,'why','-json',*a],cwd=f'{OUT}/{n}',capture_output=True,text=True,timeout=60)
        try: r=json.loads(p.stdout); cs=[c['cause'] for c in r.get('causes',[])]; got=cs[0] if cs else ('healthy' if r.get('healthy') else 'nothing')
        except Exception: r={}; cs=[]; got='nothing'
        wh=x.get('where'); ok=got in want and (not wh or got in('healthy','nothing','not-known') or wh in json.dumps(r['causes'][0]))
        h='H' if want[0]=='healthy' else 'f'; tot[(h,ok)]=tot.get((h,ok),0)+1
        if not ok: print('%-28s %-7s got %-22s want %-30s then %s %s'%(n,k,got,'/'.join(want),','.join(cs[1:4]),(p.stderr.strip().splitlines() or [''])[-1][:80] if got=='nothing' else ''))
print(tot)
