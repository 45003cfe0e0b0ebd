<script setup lang="ts">
import { ElInput } from 'element-plus'
import { ref } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, sentence } from '@/api/client'
import LanguageSelect from '@/components/LanguageSelect.vue'

/** Shown on another machine until its user has said the passphrase or the pairing code. */
const { t } = useI18n()
const passphrase = ref('')
const wrong = ref('')
const asking = ref(false)
async function begin() {
  if (!passphrase.value || asking.value) return
  asking.value = true
  try {
    const { error } = await api.POST('/api/v1/session', { body: { passphrase: passphrase.value } })
    if (error) wrong.value = sentence(error)
    else location.reload()
  } catch {
    wrong.value = t('job.gone')
  }
  passphrase.value = ''
  asking.value = false
}
</script>

<template>
  <main class="door">
    <form @submit.prevent="begin">
      <h1>{{ t('app.name') }}</h1>
      <p>{{ t('door.asks') }}</p>
      <el-input
        v-model="passphrase"
        type="password"
        show-password
        autofocus
        autocomplete="current-password"
        maxlength="200"
        :aria-label="t('door.passphrase')"
        :placeholder="t('door.passphrase')"
        @keydown.enter="begin"
      />
      <p v-if="wrong" class="bad" role="alert">{{ wrong }}</p>
      <button class="plainbtn go" type="submit" :disabled="!passphrase || asking">{{ t('door.go') }}</button>
      <p class="quiet">{{ t('door.where') }}</p>
      <LanguageSelect />
    </form>
  </main>
</template>

<style scoped>
.door {
  height: 100%;
  display: grid;
  place-content: center;
  background: var(--paper);
}
form {
  display: flex;
  flex-direction: column;
  align-items: flex-start;
  gap: 12px;
  width: 340px;
}
h1 {
  font-size: 20px;
}
.go {
  background: var(--lichen);
  color: #fff;
  padding: 8px 20px;
}
.bad {
  color: var(--rust);
}
</style>
