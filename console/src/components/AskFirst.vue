<script setup lang="ts">
/** Before what is hard to take back: what will happen, in a dialog; the focus is on the way out. */
defineProps<{ title: string; answer: string; busy?: boolean; disabled?: boolean; danger?: boolean }>()
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ confirmed: [] }>()
</script>

<template>
  <ElDialog v-model="open" :title="title" append-to-body>
    <slot />
    <template #footer>
      <ElButton autofocus @click="open = false">Leave it</ElButton>
      <ElButton :type="danger ? 'danger' : 'primary'" :loading="busy" :disabled="disabled" @click="emit('confirmed')">{{
        answer
      }}</ElButton>
    </template>
  </ElDialog>
</template>
