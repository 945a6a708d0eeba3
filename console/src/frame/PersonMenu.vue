<script setup lang="ts">
import { DownOutlined, UserOutlined } from '@ant-design/icons-vue'
import { Button, Popover, Segmented, Switch } from 'ant-design-vue'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { useAround } from '../state/around'
import { dense, setDense, setShade, shade, type Shade } from '../state/appearance'
import { useSession } from '../state/session'
import { t } from '../texts'

const session = useSession()
const router = useRouter()
const open = ref(false)
const shades = computed(() => (['light', 'dark', 'system'] as const).map((value) => ({ value, label: t(`shade.${value}`) })))

const { begin } = useAround()
function show(): void {
  open.value = false
  begin()
}
async function leave(): Promise<void> {
  open.value = false
  await session.signOut()
  await router.push({ name: 'sign-in' })
}
</script>

<template>
  <Popover v-model:open="open" trigger="click" placement="bottomRight">
    <Button type="text" :aria-expanded="open" :aria-label="t('frame.person', { name: session.me?.name })">
      <UserOutlined aria-hidden="true" /><span class="name">{{ session.me?.name }}</span
      ><DownOutlined aria-hidden="true" class="down" />
    </Button>
    <template #content>
      <div class="menu">
        <div class="soft">{{ session.me?.roles.join(', ') }}</div>
        <Segmented :value="shade" :options="shades" block @change="(v) => setShade(v as Shade)" />
        <label class="row spread">{{ t('frame.dense') }} <Switch size="small" :checked="dense" @change="(on) => setDense(!!on)" /></label>
        <RouterLink to="/yourself" @click="open = false">{{ t('frame.yourself') }}</RouterLink>
        <Button type="link" size="small" class="around" @click="show">{{ t('around.begin') }}</Button>
        <Button block @click="leave">{{ t('frame.signOut') }}</Button>
      </div>
    </template>
  </Popover>
</template>

<style scoped>
.menu {
  display: grid;
  gap: 12px;
  width: 230px;
}
.name {
  max-width: 140px;
  overflow: hidden;
  text-overflow: ellipsis;
  display: inline-block;
  vertical-align: bottom;
}
.around {
  justify-self: start;
  padding: 0;
}
.down {
  font-size: 10px;
}
</style>
