<script setup lang="ts">
/** Takes something away, after a question that says what will happen; its answer lies elsewhere than the button. */
defineProps<{ text: string; name: string; asks: string; answer: string; busy?: boolean; disabled?: boolean }>()
const emit = defineEmits<{ confirmed: [] }>()
</script>

<template>
  <ElPopconfirm
    :title="asks"
    :confirm-button-text="answer"
    cancel-button-text="Leave it"
    :width="300"
    placement="left"
    hide-icon
    @confirm="emit('confirmed')"
  >
    <template #reference>
      <ElButton size="small" :aria-label="name" :loading="busy" :disabled="disabled">{{ text }}</ElButton>
    </template>
  </ElPopconfirm>
</template>
