import { makeBigSite } from './dist/big-site.js';
import { cloneOnce, packed, scaled, withInstallation } from './dist/workloads.js';
import { ended } from '@tessarion/demo';
import pg from 'pg';
const t=async(n,f)=>{const a=performance.now();const r=await f();console.log(n,((performance.now()-a)/1000).toFixed(3));return r;};
await withInstallation(async on=>{
  await makeBigSite(on,'threadmill',scaled);
  await packed(on,'threadmill',(await cloneOnce(on,'threadmill','copy')).transfer);
  const shown=await on.client.call('environmentShow',{params:{site:'threadmill',environment:'copy'}});
  const database=shown.databases[0];
  const forecast=async()=>{const {id}=await on.client.call('forecastCreate',{body:{from:'threadmill/copy',onto:'threadmill/live'}});for(;;){const r=await on.client.call('forecastShow',{params:{id}});if(r.state==='failed')throw new Error(JSON.stringify(r.failure));if(r.state==='ready')return id;await new Promise(r=>setTimeout(r,20));}};
  for(let i=0;i<3;i++) await t('forecast',forecast);
  for(let i=0;i<1;i++){
    const c=new pg.Client({...on.server,database});await c.connect();await c.query(`UPDATE article SET title='Changed ${i}' WHERE id IN (1,2000,30000)`);await c.end();
    const id=await t('forecast3',forecast);
    const tr=await on.client.call('pushCreate',{body:{forecast:id,confirm:'threadmill/live'}});
    await t('push',()=>ended(on.client,tr));
    const {steps}=await on.client.call('transferShow',{params:{id:tr.id}});
    for(const s of steps)console.log('   ',s.name,(Date.parse(s.endedAt)-Date.parse(s.startedAt))/1000);
  }
  await t('forecast after',forecast);
  await t('forecast after',forecast);
  if (process.env.HOLD) { console.log('pid', await on.workerPid(), database, JSON.stringify(on.server)); await new Promise(r=>setTimeout(r,+process.env.HOLD*1000)); }
});
